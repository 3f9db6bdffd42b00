-- What a person says an alarm was, as it is acknowledged, and why.

-- +goose Up
ALTER TABLE alarms ADD COLUMN IF NOT EXISTS verdict TEXT NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS reason TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE alarms DROP COLUMN IF EXISTS verdict, DROP COLUMN IF EXISTS reason;
