-- How long a file's moves have taken after every so many of its commands.

-- +goose Up
ALTER TABLE files ADD COLUMN course TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE files DROP COLUMN course;
