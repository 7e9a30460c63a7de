-- +goose Up
-- Browsers that the service hands to every agent that matches. One archive stands in a
-- row; together those of an entry are one installation.
CREATE TABLE stock (
    id         TEXT    PRIMARY KEY,
    name       TEXT    NOT NULL,
    needs_json TEXT    NOT NULL,
    added_by   TEXT    NOT NULL,
    added_at   INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE stock_archives (
    stock  TEXT    NOT NULL REFERENCES stock (id) ON DELETE CASCADE,
    place  INTEGER NOT NULL,
    name   TEXT    NOT NULL,
    hash   TEXT    NOT NULL, -- SHA-256 in hexadecimal
    size   INTEGER NOT NULL,
    PRIMARY KEY (stock, place)
) WITHOUT ROWID;
CREATE INDEX stock_archives_of_hash ON stock_archives (hash);

-- Which version of a browser came into the lab, or left it, when and with which agent.
CREATE TABLE browser_changes (
    id      INTEGER PRIMARY KEY,
    at      INTEGER NOT NULL,
    agent   TEXT    NOT NULL,
    browser TEXT    NOT NULL,
    version TEXT    NOT NULL,
    channel TEXT    NOT NULL,
    came    INTEGER NOT NULL -- 0 when it went
);

-- Searches for where a test begins to fail. A try is a run of its own; what it said is
-- written when that has ended.
CREATE TABLE bisects (
    id         TEXT    PRIMARY KEY,
    project    TEXT    NOT NULL,
    run        INTEGER NOT NULL, -- the one whose test it is
    test       TEXT    NOT NULL,
    ask_json   TEXT    NOT NULL, -- what was asked for, with everything settled
    secrets    BLOB,             -- sealed; erased at its end
    by_name    TEXT    NOT NULL,
    answer     TEXT    NOT NULL DEFAULT '', -- JSON, or '' while it goes on
    started_at INTEGER NOT NULL,
    ended_at   INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;
CREATE INDEX bisects_open ON bisects (id) WHERE ended_at = 0;
CREATE TABLE bisect_tries (
    bisect    TEXT    NOT NULL REFERENCES bisects (id) ON DELETE CASCADE,
    place     INTEGER NOT NULL,
    candidate INTEGER NOT NULL,
    run       INTEGER NOT NULL, -- its number
    verdict   TEXT    NOT NULL, -- '' while the run goes on
    session   TEXT    NOT NULL DEFAULT '',
    PRIMARY KEY (bisect, place)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE bisect_tries;
DROP TABLE bisects;
DROP TABLE browser_changes;
DROP TABLE stock_archives;
DROP TABLE stock;
