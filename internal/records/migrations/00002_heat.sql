-- +goose Up
CREATE TABLE heat_chunks (
    heater    text NOT NULL,
    begins    timestamptz NOT NULL,     -- of the first reading
    ends      timestamptz NOT NULL,     -- of the last
    count     integer NOT NULL,
    low       real NOT NULL,            -- °C
    high      real NOT NULL,            -- °C
    mean      real NOT NULL,            -- °C
    setpoint  real,                     -- °C
    duty      real,                     -- 0 to 1
    summed    boolean NOT NULL DEFAULT false, -- what it sums up to is in heat_sums
    minutes   bytea NOT NULL,           -- packed spans
    data      bytea NOT NULL,           -- packed readings
    PRIMARY KEY (heater, begins)
);
CREATE INDEX heat_chunks_fresh ON heat_chunks (heater, begins) WHERE NOT summed;
-- They are compressed already.
ALTER TABLE heat_chunks ALTER COLUMN minutes SET STORAGE EXTERNAL, ALTER COLUMN data SET STORAGE EXTERNAL;

CREATE TABLE heat_sums (
    heater    text NOT NULL,
    begins    timestamptz NOT NULL,
    ends      timestamptz NOT NULL,
    data      bytea NOT NULL,           -- packed spans, one for each chunk
    PRIMARY KEY (heater, begins)
);
ALTER TABLE heat_sums ALTER COLUMN data SET STORAGE EXTERNAL;

CREATE TABLE marks (
    at        timestamptz NOT NULL,
    kind      text NOT NULL,
    heater    text NOT NULL,
    text      text NOT NULL
);
CREATE INDEX marks_at ON marks (at);

CREATE TABLE alarms (
    id            uuid PRIMARY KEY,
    at            timestamptz NOT NULL,
    heater        text NOT NULL,
    guard         text NOT NULL,
    action        text NOT NULL,
    text          text NOT NULL,
    acknowledged  timestamptz,
    by            text NOT NULL
);
CREATE INDEX alarms_at ON alarms (at DESC);

CREATE TABLE heat_episodes (
    heater     text NOT NULL,
    kind       text NOT NULL,
    at         timestamptz NOT NULL,
    took       double precision NOT NULL, -- seconds
    setpoint   double precision NOT NULL, -- °C
    began      double precision NOT NULL, -- °C
    rise       double precision NOT NULL, -- K/s at full duty
    overshoot  double precision NOT NULL, -- K
    duty       double precision NOT NULL, -- 0 to 1
    ripple     double precision NOT NULL, -- K
    PRIMARY KEY (heater, kind, at)
);

CREATE TABLE heat_models (
    heater   text PRIMARY KEY,
    at       timestamptz NOT NULL,
    learned  jsonb NOT NULL
);

CREATE TABLE warm_ups (
    name       text PRIMARY KEY,
    setpoints  jsonb NOT NULL,
    sequence   text NOT NULL,
    soak       boolean NOT NULL,
    soak_for   double precision NOT NULL, -- seconds; 0: until the plate has settled
    place      bigserial
);

-- +goose Down
DROP TABLE warm_ups, heat_models, heat_episodes, alarms, marks, heat_sums, heat_chunks;
