-- Who has given a token, an account, a passkey: what a right has given ends with it.

-- +goose Up
ALTER TABLE tokens ADD COLUMN giver TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN maker TEXT NOT NULL DEFAULT '', ADD COLUMN giver TEXT NOT NULL DEFAULT '';
ALTER TABLE passkeys ADD COLUMN giver TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE tokens DROP COLUMN giver;
ALTER TABLE accounts DROP COLUMN maker, DROP COLUMN giver;
ALTER TABLE passkeys DROP COLUMN giver;
