-- +goose Up
-- Who sent a file, and the words that a person has put to it.
ALTER TABLE files ADD COLUMN sender text NOT NULL DEFAULT '';
ALTER TABLE files ADD COLUMN tags jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE files DROP COLUMN tags;
ALTER TABLE files DROP COLUMN sender;
