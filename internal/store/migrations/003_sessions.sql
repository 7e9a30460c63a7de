-- +goose Up
ALTER TABLE runs ADD COLUMN kind TEXT NOT NULL DEFAULT 'script'; -- script, or remote: sessions of somebody else's runner
ALTER TABLE runs ADD COLUMN secrets BLOB;                        -- variables nobody may see, sealed
CREATE INDEX runs_of_name ON runs (project, suite, number) WHERE kind = 'remote';
UPDATE files SET kind = kind || 's' WHERE kind IN ('screenshot', 'log');
CREATE TABLE sessions (
    id           TEXT PRIMARY KEY, -- its attempt has the same
    run_id       TEXT    NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    pane         INTEGER NOT NULL,
    test         INTEGER NOT NULL,
    number       INTEGER NOT NULL, -- of the attempt
    kind         TEXT    NOT NULL, -- script or remote
    name         TEXT    NOT NULL,
    tags_json    TEXT    NOT NULL,
    by_name      TEXT    NOT NULL,
    token_id     TEXT    NOT NULL, -- whose commands the session takes
    agent        TEXT    NOT NULL,
    browser      TEXT    NOT NULL,
    version      TEXT    NOT NULL,
    os           TEXT    NOT NULL,
    device       TEXT    NOT NULL,
    asked_json   TEXT    NOT NULL, -- capabilities, without what is secret
    options_json TEXT    NOT NULL,
    state        TEXT    NOT NULL, -- waiting, open or ended
    verdict      TEXT    NOT NULL DEFAULT '',
    message      TEXT    NOT NULL DEFAULT '',
    how          TEXT    NOT NULL DEFAULT '', -- it ended
    note         TEXT    NOT NULL DEFAULT '', -- somebody's
    fence        INTEGER NOT NULL DEFAULT 0,  -- of its lease
    bidi_key     TEXT    NOT NULL DEFAULT '', -- SHA-256 of what opens its BiDi address
    queued_at    INTEGER NOT NULL,
    opened_at    INTEGER NOT NULL DEFAULT 0,
    ended_at     INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX sessions_live ON sessions (state) WHERE state != 'ended';
CREATE INDEX sessions_of_run ON sessions (run_id, pane, test);
CREATE INDEX sessions_by_time ON sessions (queued_at);
CREATE TABLE projects (
    name        TEXT PRIMARY KEY,
    record_json TEXT NOT NULL, -- what is recorded of its sessions
    keep_json   TEXT NOT NULL  -- for how long
);

-- +goose Down
DROP TABLE projects;
DROP TABLE sessions;
UPDATE files SET kind = substr(kind, 1, length(kind) - 1) WHERE kind IN ('screenshots', 'logs');
DROP INDEX runs_of_name;
ALTER TABLE runs DROP COLUMN secrets;
ALTER TABLE runs DROP COLUMN kind;
