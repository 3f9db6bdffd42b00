-- +goose Up
ALTER TABLE runs ADD COLUMN by text NOT NULL DEFAULT '';        -- who started it
ALTER TABLE runs ADD COLUMN entry text NOT NULL DEFAULT '';     -- of the queue that it was
ALTER TABLE runs ADD COLUMN overruled text NOT NULL DEFAULT ''; -- JSON: what stood in its way, and why that did not matter

-- +goose Down
ALTER TABLE runs DROP COLUMN overruled;
ALTER TABLE runs DROP COLUMN entry;
ALTER TABLE runs DROP COLUMN by;
