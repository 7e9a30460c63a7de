-- +goose Up
-- Times are milliseconds since 1970, UTC. Columns named *_json hold JSON.
CREATE TABLE tokens (
    id         TEXT PRIMARY KEY,
    name       TEXT    NOT NULL,
    role       TEXT    NOT NULL,
    hash       BLOB    NOT NULL UNIQUE, -- SHA-256 of the token
    created_at INTEGER NOT NULL
);
CREATE TABLE agents (
    name         TEXT PRIMARY KEY,
    instance     TEXT    NOT NULL,
    machine_json TEXT    NOT NULL,
    first_seen   INTEGER NOT NULL,
    last_seen    INTEGER NOT NULL
);
CREATE TABLE runs (
    id           TEXT PRIMARY KEY,
    number       INTEGER NOT NULL UNIQUE,
    project      TEXT    NOT NULL,
    suite        TEXT    NOT NULL,
    matrix       TEXT    NOT NULL,
    environment  TEXT    NOT NULL,
    base         TEXT    NOT NULL,
    vars_json    TEXT    NOT NULL,
    bundle       TEXT    NOT NULL,
    request_json TEXT    NOT NULL,
    by_name      TEXT    NOT NULL,
    verdict      TEXT    NOT NULL DEFAULT '',
    why          TEXT    NOT NULL DEFAULT '',
    counts_json  TEXT    NOT NULL DEFAULT '{}',
    created_at   INTEGER NOT NULL,
    started_at   INTEGER NOT NULL DEFAULT 0,
    ended_at     INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX runs_open ON runs (ended_at) WHERE ended_at = 0;
CREATE TABLE panes (
    run_id      TEXT    NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    idx         INTEGER NOT NULL,
    key         TEXT    NOT NULL,
    label       TEXT    NOT NULL,
    values_json TEXT    NOT NULL,
    needs_json  TEXT    NOT NULL,
    info_json   TEXT    NOT NULL DEFAULT '{}', -- what its first attempt ran on
    PRIMARY KEY (run_id, idx)
) WITHOUT ROWID;
CREATE TABLE tests (
    run_id    TEXT    NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    idx       INTEGER NOT NULL,
    name      TEXT    NOT NULL,
    file      TEXT    NOT NULL,
    tags_json TEXT    NOT NULL,
    PRIMARY KEY (run_id, idx)
) WITHOUT ROWID;
CREATE TABLE results (
    run_id  TEXT    NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    pane    INTEGER NOT NULL,
    test    INTEGER NOT NULL,
    verdict TEXT    NOT NULL DEFAULT '',
    why     TEXT    NOT NULL DEFAULT '',
    PRIMARY KEY (run_id, pane, test)
) WITHOUT ROWID;
CREATE TABLE attempts (
    id          TEXT PRIMARY KEY,
    run_id      TEXT    NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    pane        INTEGER NOT NULL,
    test        INTEGER NOT NULL,
    number      INTEGER NOT NULL,
    fence       INTEGER NOT NULL,
    agent       TEXT    NOT NULL,
    verdict     TEXT    NOT NULL,
    message     TEXT    NOT NULL,
    started_at  INTEGER NOT NULL,
    took_ms     INTEGER NOT NULL,
    detail_json TEXT    NOT NULL,
    UNIQUE (run_id, pane, test, number)
);
CREATE TABLE files (
    attempt_id TEXT    NOT NULL REFERENCES attempts (id) ON DELETE CASCADE,
    name       TEXT    NOT NULL,
    kind       TEXT    NOT NULL,
    media      TEXT    NOT NULL,
    hash       TEXT    NOT NULL,
    size       INTEGER NOT NULL,
    PRIMARY KEY (attempt_id, name)
) WITHOUT ROWID;
CREATE TABLE leases (
    fence      INTEGER PRIMARY KEY,
    run_id     TEXT    NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    pane       INTEGER NOT NULL,
    agent      TEXT    NOT NULL,
    tests_json TEXT    NOT NULL,
    granted_at INTEGER NOT NULL,
    ended_at   INTEGER NOT NULL DEFAULT 0,
    why        TEXT    NOT NULL DEFAULT ''
);
CREATE INDEX leases_open ON leases (run_id) WHERE ended_at = 0;

-- +goose Down
DROP TABLE leases;
DROP TABLE files;
DROP TABLE attempts;
DROP TABLE results;
DROP TABLE tests;
DROP TABLE panes;
DROP TABLE runs;
DROP TABLE agents;
DROP TABLE tokens;
