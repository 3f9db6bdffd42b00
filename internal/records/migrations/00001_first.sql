-- +goose Up
CREATE TABLE files (
    name      text PRIMARY KEY,
    size      bigint NOT NULL,
    sha256    text NOT NULL,
    stored    timestamptz NOT NULL,
    summary   jsonb NOT NULL
);

CREATE TABLE runs (
    id        uuid PRIMARY KEY,
    file      text NOT NULL,
    sha256    text NOT NULL,
    state     text NOT NULL,
    reason    text NOT NULL,
    created   timestamptz NOT NULL,
    started   timestamptz,
    laying    timestamptz,
    ended     timestamptz,
    commands  bigint NOT NULL,
    taken     bigint NOT NULL,
    filament  double precision NOT NULL,
    estimate  double precision NOT NULL -- seconds
);
CREATE INDEX runs_created ON runs (created DESC);

CREATE TABLE readings (
    at        timestamptz NOT NULL,
    heater    text NOT NULL,
    actual    real NOT NULL,            -- °C
    setpoint  real,                     -- °C
    duty      real                      -- 0 to 1
);
CREATE INDEX readings_at ON readings (at, heater);

CREATE TABLE messages (
    at        timestamptz NOT NULL,
    kind      text NOT NULL,
    text      text NOT NULL
);
CREATE INDEX messages_at ON messages (at);

CREATE TABLE tokens (
    id        uuid PRIMARY KEY,
    name      text NOT NULL,
    hash      bytea NOT NULL UNIQUE,    -- SHA-256 of the token
    scopes    text NOT NULL,
    created   timestamptz NOT NULL,
    expires   timestamptz
);

-- +goose Down
DROP TABLE tokens, messages, readings, runs, files;
