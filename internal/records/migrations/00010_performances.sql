-- +goose Up
CREATE TABLE performances (
    id       uuid PRIMARY KEY,
    routine  text NOT NULL,
    text     text NOT NULL, -- as it was performed
    given    text NOT NULL, -- JSON: the values of its parameters
    by       text NOT NULL,
    state    text NOT NULL,
    why      text NOT NULL,
    begun    timestamptz NOT NULL,
    ended    timestamptz,
    entries  text NOT NULL, -- JSON: what it said, did, asked and was told
    left_out integer NOT NULL
);
CREATE INDEX ON performances (begun);
ALTER TABLE warm_ups ADD COLUMN spool text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE warm_ups DROP COLUMN spool;
DROP TABLE performances;
