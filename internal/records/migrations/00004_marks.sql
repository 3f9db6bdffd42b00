-- +goose Up
-- Marks are read for one file at a time, and not for a listing.
ALTER TABLE files ADD COLUMN marks jsonb NOT NULL DEFAULT '[]';
UPDATE files SET summary = summary - 'Marks';

-- +goose Down
ALTER TABLE files DROP COLUMN marks;
