-- +goose Up
ALTER TABLE files RENAME COLUMN sha256 TO digest;
ALTER TABLE runs RENAME COLUMN sha256 TO digest;

-- +goose Down
ALTER TABLE runs RENAME COLUMN digest TO sha256;
ALTER TABLE files RENAME COLUMN digest TO sha256;
