-- +goose Up
-- What waits to be printed, in the order of its IDs.
CREATE TABLE queue (
    id      uuid PRIMARY KEY,
    file    text NOT NULL,
    digest  text NOT NULL,
    sender  text NOT NULL,
    asked   timestamptz NOT NULL
);

-- +goose Down
DROP TABLE queue;
