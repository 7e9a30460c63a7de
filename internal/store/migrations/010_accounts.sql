-- +goose Up
-- People with a name and a mail address, beside tokens: a token whose owner has the name is
-- theirs.
CREATE TABLE accounts (
    id          TEXT PRIMARY KEY,
    name        TEXT    NOT NULL COLLATE NOCASE UNIQUE,
    mail        TEXT    NOT NULL COLLATE NOCASE, -- '' for none
    rights_json TEXT    NOT NULL,
    issuer      TEXT    NOT NULL DEFAULT '', -- who signs them in, once they have signed in
    subject     TEXT    NOT NULL DEFAULT '',
    mentions    INTEGER NOT NULL DEFAULT 1, -- they hear by mail of notes that mention them
    made_by     TEXT    NOT NULL,
    made_at     INTEGER NOT NULL,
    seen_at     INTEGER NOT NULL DEFAULT 0
);
CREATE UNIQUE INDEX accounts_mail ON accounts (mail) WHERE mail != '';
CREATE UNIQUE INDEX accounts_subject ON accounts (issuer, subject) WHERE subject != '';
-- Whose subscription it is: it goes to that account's mail address; '' for every other.
ALTER TABLE subscriptions ADD COLUMN account TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE subscriptions DROP COLUMN account;
DROP TABLE accounts;
