-- +goose Up
CREATE TABLE accounts (
    id        uuid PRIMARY KEY,
    name      text NOT NULL,
    role      text NOT NULL,
    password  text NOT NULL, -- argon2id, in the PHC string form
    created   timestamptz NOT NULL
);
ALTER TABLE tokens
    ADD COLUMN session   boolean NOT NULL DEFAULT false,
    ADD COLUMN account   text NOT NULL DEFAULT '',
    ADD COLUMN maker     text NOT NULL DEFAULT '',
    ADD COLUMN used      timestamptz,
    ADD COLUMN used_from text NOT NULL DEFAULT '';
UPDATE tokens SET session = true WHERE expires IS NOT NULL;

-- +goose Down
ALTER TABLE tokens DROP COLUMN session, DROP COLUMN account, DROP COLUMN maker, DROP COLUMN used, DROP COLUMN used_from;
DROP TABLE accounts;
