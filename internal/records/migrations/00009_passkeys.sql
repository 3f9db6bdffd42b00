-- +goose Up
CREATE TABLE passkeys (
    id         text PRIMARY KEY, -- the credential's, in base64url
    account    uuid NOT NULL REFERENCES accounts ON DELETE CASCADE,
    name       text NOT NULL,
    credential bytea NOT NULL, -- JSON: public key, counter, flags
    created    timestamptz NOT NULL,
    used       timestamptz
);

-- +goose Down
DROP TABLE passkeys;
