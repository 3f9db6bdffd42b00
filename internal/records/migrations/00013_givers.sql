-- Who has given a token, an account, a passkey: what a right has given ends with it.

-- +goose Up
ALTER TABLE tokens ADD COLUMN IF NOT EXISTS giver TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN IF NOT EXISTS maker TEXT NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS giver TEXT NOT NULL DEFAULT '';
ALTER TABLE passkeys ADD COLUMN IF NOT EXISTS giver TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE tokens DROP COLUMN IF EXISTS giver;
ALTER TABLE accounts DROP COLUMN IF EXISTS maker, DROP COLUMN IF EXISTS giver;
ALTER TABLE passkeys DROP COLUMN IF EXISTS giver;
