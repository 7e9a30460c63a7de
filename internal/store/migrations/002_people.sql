-- +goose Up
-- Whose a token is, what it may do where, for how long, and what it was made from.
-- An agent's token belongs to the one agent that joined with it.
ALTER TABLE tokens ADD COLUMN owner TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN rights_json TEXT NOT NULL DEFAULT '[]';
ALTER TABLE tokens ADD COLUMN root TEXT NOT NULL DEFAULT ''; -- of a console session: the token that signed in
ALTER TABLE tokens ADD COLUMN agent TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN pool TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN expires_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tokens ADD COLUMN used_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tokens ADD COLUMN used_from TEXT NOT NULL DEFAULT '';
UPDATE tokens SET owner = name, rights_json = json_array(json_object('project', '*', 'role', role)),
    expires_at = created_at + 31536000000;
DELETE FROM tokens WHERE name LIKE '% (console)';
ALTER TABLE tokens DROP COLUMN role;
CREATE INDEX tokens_of_root ON tokens (root) WHERE root != '';

-- Who did what. Rows are added and, when they are old, removed; never changed.
CREATE TABLE audit (
    id      INTEGER PRIMARY KEY,
    at      INTEGER NOT NULL,
    who     TEXT    NOT NULL, -- the owner of the token; '' for nobody who is known
    token   TEXT    NOT NULL, -- its name
    origin  TEXT    NOT NULL, -- the address it came from
    act     TEXT    NOT NULL,
    target  TEXT    NOT NULL,
    project TEXT    NOT NULL,
    before  TEXT    NOT NULL, -- JSON, or ''
    after   TEXT    NOT NULL,
    refused TEXT    NOT NULL  -- why; '' when it was done
);
CREATE INDEX audit_of_project ON audit (project, id);

ALTER TABLE notes ADD COLUMN by_name TEXT NOT NULL DEFAULT '';
ALTER TABLE notes ADD COLUMN at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sessions ADD COLUMN judged_by TEXT NOT NULL DEFAULT ''; -- when somebody said afterwards how it went

-- The secrets of a run go with its end; their names stay.
ALTER TABLE runs ADD COLUMN secret_names TEXT NOT NULL DEFAULT '[]';
UPDATE runs SET secrets = NULL WHERE ended_at > 0;

-- +goose Down
ALTER TABLE runs DROP COLUMN secret_names;
ALTER TABLE sessions DROP COLUMN judged_by;
ALTER TABLE notes DROP COLUMN at;
ALTER TABLE notes DROP COLUMN by_name;
DROP TABLE audit;
DROP INDEX tokens_of_root;
ALTER TABLE tokens ADD COLUMN role TEXT NOT NULL DEFAULT '';
UPDATE tokens SET role = json_extract(rights_json, '$[0].role');
ALTER TABLE tokens DROP COLUMN used_from;
ALTER TABLE tokens DROP COLUMN used_at;
ALTER TABLE tokens DROP COLUMN expires_at;
ALTER TABLE tokens DROP COLUMN pool;
ALTER TABLE tokens DROP COLUMN agent;
ALTER TABLE tokens DROP COLUMN root;
ALTER TABLE tokens DROP COLUMN rights_json;
ALTER TABLE tokens DROP COLUMN owner;
