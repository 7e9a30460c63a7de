-- +goose Up
-- Times are milliseconds since 1970, UTC, and days are whole ones since then.
-- Columns named *_json hold JSON. Verdicts that are numbers are those of codes.go.
-- What is said over and over (an agent's name, what a session ran on) stands in
-- texts once.
CREATE TABLE texts (
    id   INTEGER PRIMARY KEY,
    body TEXT NOT NULL UNIQUE
);

-- Who may do what, and on which machines.
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
    last_seen    INTEGER NOT NULL,
    draining     INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE projects (
    name        TEXT PRIMARY KEY,
    record_json TEXT NOT NULL, -- what is recorded of its sessions
    keep_json   TEXT NOT NULL  -- for how long
);
CREATE TABLE quotas (
    id          TEXT PRIMARY KEY,
    kind        TEXT    NOT NULL, -- project, owner or combination
    name        TEXT    NOT NULL,
    values_json TEXT    NOT NULL,
    slots       INTEGER NOT NULL, -- 0 means no bound
    weight      REAL    NOT NULL  -- of a project; 0 means 1
);
CREATE UNIQUE INDEX quotas_of ON quotas (kind, name, values_json);

-- What is to run, and when by itself.
CREATE TABLE presets (
    id           TEXT PRIMARY KEY,
    name         TEXT    NOT NULL UNIQUE,
    project      TEXT    NOT NULL,
    bundle       TEXT    NOT NULL,
    request_json TEXT    NOT NULL,
    made_by      TEXT    NOT NULL,
    made_at      INTEGER NOT NULL,
    changed_by   TEXT    NOT NULL,
    changed_at   INTEGER NOT NULL
);
CREATE INDEX presets_of_bundle ON presets (bundle);
CREATE TABLE schedules (
    id        TEXT PRIMARY KEY,
    name      TEXT    NOT NULL UNIQUE,
    preset_id TEXT    NOT NULL REFERENCES presets (id),
    rule      TEXT    NOT NULL, -- RFC 5545, without RRULE:
    start_at  INTEGER NOT NULL,
    zone      TEXT    NOT NULL,
    missed    TEXT    NOT NULL, -- when the service was down: run or skip
    overlap   TEXT    NOT NULL, -- when the previous run goes on: wait, skip or cancel
    paused    INTEGER NOT NULL DEFAULT 0,
    seen_at   INTEGER NOT NULL, -- occurrences up to here are done with
    last_run  INTEGER NOT NULL DEFAULT 0,
    last_note TEXT    NOT NULL DEFAULT '',
    made_by   TEXT    NOT NULL,
    made_at   INTEGER NOT NULL
);

-- Tests and combinations as they are known across runs. The tests of a run of
-- sessions belong to no suite: they are known by their project and name.
CREATE TABLE tests_known (
    id      INTEGER PRIMARY KEY,
    project TEXT NOT NULL,
    suite   TEXT NOT NULL,
    name    TEXT NOT NULL,
    UNIQUE (project, suite, name)
);
CREATE TABLE combos (
    id          INTEGER PRIMARY KEY,
    key         TEXT NOT NULL UNIQUE, -- canonical
    values_json TEXT NOT NULL
);

-- A run: what a list shows comes first, what only the run itself needs last.
CREATE TABLE runs (
    number       INTEGER PRIMARY KEY,
    id           TEXT    NOT NULL UNIQUE,
    kind         TEXT    NOT NULL, -- script, or remote: sessions of somebody else's runner
    project      TEXT    NOT NULL,
    suite        TEXT    NOT NULL, -- or the name that its sessions gave it
    matrix       TEXT    NOT NULL,
    environment  TEXT    NOT NULL,
    by_name      TEXT    NOT NULL,
    verdict      TEXT    NOT NULL DEFAULT '',
    why          TEXT    NOT NULL DEFAULT '',
    counts_json  TEXT    NOT NULL,
    created_at   INTEGER NOT NULL,
    started_at   INTEGER NOT NULL DEFAULT 0,
    ended_at     INTEGER NOT NULL DEFAULT 0,
    again_of     INTEGER NOT NULL DEFAULT 0, -- number of the run it repeats
    glances_json TEXT    NOT NULL DEFAULT '[]', -- of its panes, once it has ended
    revised      INTEGER NOT NULL DEFAULT 0, -- how often it was changed after its end
    preset_id    TEXT    NOT NULL DEFAULT '',
    schedule_id  TEXT    NOT NULL DEFAULT '',
    spread       INTEGER NOT NULL DEFAULT 0, -- its tests were spread over the combinations
    bundle       TEXT    NOT NULL,
    base         TEXT    NOT NULL,
    vars_json    TEXT    NOT NULL,
    request_json TEXT    NOT NULL,
    plan_json    TEXT    NOT NULL, -- what its matrix left out
    secrets      BLOB              -- variables nobody may see, sealed
);
CREATE INDEX runs_open ON runs (ended_at) WHERE ended_at = 0;
CREATE INDEX runs_of_suite ON runs (project, suite, matrix, number);
CREATE INDEX runs_of_preset ON runs (preset_id, number) WHERE preset_id != '';
CREATE INDEX runs_of_name ON runs (project, suite, number) WHERE kind = 'remote';
CREATE INDEX runs_of_bundle ON runs (bundle);
CREATE TABLE panes (
    run        INTEGER NOT NULL REFERENCES runs (number),
    idx        INTEGER NOT NULL,
    combo      INTEGER NOT NULL,
    label      TEXT    NOT NULL,
    needs_json TEXT    NOT NULL,
    dealt_json TEXT    NOT NULL, -- which tests it has; '' means every one of the run
    info_json  TEXT    NOT NULL DEFAULT '{}', -- what its first attempt ran on
    PRIMARY KEY (run, idx)
) WITHOUT ROWID;
CREATE TABLE tests (
    run        INTEGER NOT NULL REFERENCES runs (number),
    idx        INTEGER NOT NULL,
    known      INTEGER NOT NULL,
    file       TEXT    NOT NULL,
    tags_json  TEXT    NOT NULL,
    locks_json TEXT    NOT NULL,
    PRIMARY KEY (run, idx)
) WITHOUT ROWID;

-- A cell is the final state of a test in a pane. Only a run of sessions has cells
-- without a verdict: elsewhere the row comes with it.
CREATE TABLE cells (
    run      INTEGER NOT NULL,
    pane     INTEGER NOT NULL,
    test     INTEGER NOT NULL,
    known    INTEGER NOT NULL,
    combo    INTEGER NOT NULL,
    verdict  INTEGER NOT NULL,
    attempts INTEGER NOT NULL,
    took_ms  INTEGER NOT NULL, -- of the newest attempt
    agent    INTEGER NOT NULL, -- of texts
    why      TEXT,             -- set when no attempt explains the verdict
    message  TEXT,             -- short, of the newest attempt that did not pass
    PRIMARY KEY (run, pane, test)
) WITHOUT ROWID;
CREATE INDEX cells_of_test ON cells (known, combo, run);
-- The wall of a run that has ended, ready to be sent: JSON, compressed with gzip.
CREATE TABLE walls (
    run  INTEGER PRIMARY KEY,
    body BLOB NOT NULL
);

-- An attempt, what it says in detail, and of that what many attempts share.
CREATE TABLE attempts (
    run        INTEGER NOT NULL REFERENCES runs (number),
    pane       INTEGER NOT NULL,
    test       INTEGER NOT NULL,
    number     INTEGER NOT NULL,
    id         BLOB    NOT NULL, -- UUID, 16 bytes, of which the last is zero
    sessions   INTEGER NOT NULL, -- that it had; their ids count in the last byte
    fence      INTEGER NOT NULL,
    agent      INTEGER NOT NULL, -- of texts
    verdict    INTEGER NOT NULL,
    started_at INTEGER NOT NULL,
    took_ms    INTEGER NOT NULL,
    opened_ms  INTEGER NOT NULL, -- from its start until its session was open
    ran_on     INTEGER NOT NULL, -- of texts: browser, version, system and device as JSON
    message    TEXT,
    PRIMARY KEY (run, pane, test, number)
) WITHOUT ROWID;
CREATE UNIQUE INDEX attempts_by_id ON attempts (id);
CREATE TABLE details (
    run    INTEGER NOT NULL,
    pane   INTEGER NOT NULL,
    test   INTEGER NOT NULL,
    number INTEGER NOT NULL,
    steps  INTEGER, -- of shared: titles and lines
    setup  INTEGER, -- of shared: browser, device, what was to be recorded
    body   BLOB NOT NULL,
    PRIMARY KEY (run, pane, test, number)
) WITHOUT ROWID;
CREATE TABLE shared (
    id   INTEGER PRIMARY KEY,
    hash BLOB NOT NULL UNIQUE, -- SHA-256 of body before it was compressed
    body BLOB NOT NULL
);
CREATE TABLE leases (
    fence      INTEGER PRIMARY KEY AUTOINCREMENT, -- the service names it; SQLite remembers the highest
    run        INTEGER NOT NULL REFERENCES runs (number),
    pane       INTEGER NOT NULL,
    agent      TEXT    NOT NULL,
    tests_json TEXT    NOT NULL,
    granted_at INTEGER NOT NULL
);
CREATE INDEX leases_of_run ON leases (run);

-- Sessions of somebody else's runner. Those of scripts are told by their attempts. The
-- id of a session is that of its attempt with a number in place of the last byte.
CREATE TABLE sessions (
    id           TEXT PRIMARY KEY,
    run          INTEGER NOT NULL REFERENCES runs (number),
    pane         INTEGER NOT NULL,
    test         INTEGER NOT NULL,
    number       INTEGER NOT NULL, -- of the attempt
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
    fence        INTEGER NOT NULL DEFAULT 0,  -- of its lease
    bidi_key     TEXT    NOT NULL DEFAULT '', -- SHA-256 of what opens its BiDi address
    queued_at    INTEGER NOT NULL,
    opened_at    INTEGER NOT NULL DEFAULT 0,
    ended_at     INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX sessions_live ON sessions (state) WHERE state != 'ended';
CREATE INDEX sessions_of_run ON sessions (run, pane, test);
CREATE TABLE notes (
    session TEXT PRIMARY KEY,
    body    TEXT NOT NULL
);

-- Files of attempts, by their contents, with what their keeping depends on.
CREATE TABLE files (
    attempt BLOB    NOT NULL, -- UUID, 16 bytes
    name    TEXT    NOT NULL,
    session INTEGER NOT NULL, -- number of the session that it was recorded of; 0 for none
    kind    TEXT    NOT NULL,
    media   TEXT    NOT NULL,
    hash    BLOB    NOT NULL, -- SHA-256, 32 bytes
    size    INTEGER NOT NULL,
    project TEXT    NOT NULL,
    verdict INTEGER NOT NULL,
    at      INTEGER NOT NULL, -- the end of its attempt
    PRIMARY KEY (attempt, name)
) WITHOUT ROWID;
CREATE INDEX files_by_age ON files (project, kind, verdict, at);
CREATE INDEX files_by_hash ON files (hash);
CREATE TABLE kept (
    project TEXT    NOT NULL,
    kind    TEXT    NOT NULL,
    verdict INTEGER NOT NULL,
    n       INTEGER NOT NULL, -- files
    bytes   INTEGER NOT NULL,
    PRIMARY KEY (project, kind, verdict)
) WITHOUT ROWID;

-- Counts that are kept up to date in the batch that changes what they count: by
-- the day on which the run was made, of cells that ran.
CREATE TABLE days_of_tests (
    known   INTEGER NOT NULL,
    day     INTEGER NOT NULL,
    verdict INTEGER NOT NULL,
    n       INTEGER NOT NULL,
    PRIMARY KEY (known, day, verdict)
) WITHOUT ROWID;
CREATE TABLE days_of_combos (
    project TEXT    NOT NULL,
    combo   INTEGER NOT NULL,
    day     INTEGER NOT NULL,
    verdict INTEGER NOT NULL,
    n       INTEGER NOT NULL,
    PRIMARY KEY (project, combo, day, verdict)
) WITHOUT ROWID;
-- What a test took of late in a combination: the nine newest, newest first, six
-- hexadecimal digits of milliseconds each; and the last run in which it had a
-- verdict of its own there.
CREATE TABLE estimates (
    known    INTEGER NOT NULL,
    combo    INTEGER NOT NULL,
    recent   TEXT    NOT NULL,
    at       INTEGER NOT NULL,
    last_run INTEGER NOT NULL,
    PRIMARY KEY (known, combo)
) WITHOUT ROWID;

-- +goose StatementBegin
CREATE TRIGGER cells_counted AFTER INSERT ON cells WHEN NEW.verdict > 0 AND NEW.attempts > 0 BEGIN
    INSERT INTO days_of_tests (known, day, verdict, n)
        SELECT NEW.known, created_at / 86400000, NEW.verdict, 1 FROM runs WHERE number = NEW.run
        ON CONFLICT DO UPDATE SET n = n + 1;
    INSERT INTO days_of_combos (project, combo, day, verdict, n)
        SELECT project, NEW.combo, created_at / 86400000, NEW.verdict, 1 FROM runs WHERE number = NEW.run
        ON CONFLICT DO UPDATE SET n = n + 1;
    UPDATE estimates SET last_run = max(last_run, NEW.run)
        WHERE known = NEW.known AND combo = NEW.combo AND NEW.verdict IN (1, 2, 3);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER cells_recounted AFTER UPDATE OF verdict ON cells WHEN NEW.verdict != OLD.verdict BEGIN
    UPDATE days_of_tests SET n = n - 1 WHERE OLD.attempts > 0 AND known = OLD.known AND verdict = OLD.verdict
        AND day = (SELECT created_at / 86400000 FROM runs WHERE number = OLD.run);
    UPDATE days_of_combos SET n = n - 1 WHERE OLD.attempts > 0 AND combo = OLD.combo AND verdict = OLD.verdict
        AND (project, day) = (SELECT project, created_at / 86400000 FROM runs WHERE number = OLD.run);
    INSERT INTO days_of_tests (known, day, verdict, n)
        SELECT NEW.known, created_at / 86400000, NEW.verdict, 1 FROM runs
        WHERE number = NEW.run AND NEW.verdict > 0 AND NEW.attempts > 0
        ON CONFLICT DO UPDATE SET n = n + 1;
    INSERT INTO days_of_combos (project, combo, day, verdict, n)
        SELECT project, NEW.combo, created_at / 86400000, NEW.verdict, 1 FROM runs
        WHERE number = NEW.run AND NEW.verdict > 0 AND NEW.attempts > 0
        ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER attempts_learnt AFTER INSERT ON attempts WHEN NEW.verdict IN (1, 2) BEGIN
    INSERT INTO estimates (known, combo, recent, at, last_run)
        SELECT t.known, p.combo, printf('%06x', min(NEW.took_ms, 16777215)), NEW.started_at, 0
        FROM tests t, panes p WHERE t.run = NEW.run AND t.idx = NEW.test AND p.run = NEW.run AND p.idx = NEW.pane
        ON CONFLICT DO UPDATE SET recent = substr(excluded.recent || recent, 1, 54), at = excluded.at;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER files_kept AFTER INSERT ON files BEGIN
    INSERT INTO kept (project, kind, verdict, n, bytes) VALUES (NEW.project, NEW.kind, NEW.verdict, 1, NEW.size)
        ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER files_dropped AFTER DELETE ON files BEGIN
    UPDATE kept SET n = n - 1, bytes = bytes - OLD.size
        WHERE project = OLD.project AND kind = OLD.kind AND verdict = OLD.verdict;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER files_judged AFTER UPDATE OF verdict ON files WHEN NEW.verdict != OLD.verdict BEGIN
    UPDATE kept SET n = n - 1, bytes = bytes - OLD.size
        WHERE project = OLD.project AND kind = OLD.kind AND verdict = OLD.verdict;
    INSERT INTO kept (project, kind, verdict, n, bytes) VALUES (NEW.project, NEW.kind, NEW.verdict, 1, NEW.size)
        ON CONFLICT DO UPDATE SET n = n + 1, bytes = bytes + excluded.bytes;
END;
-- +goose StatementEnd

-- +goose Down
DROP TABLE estimates;
DROP TABLE days_of_combos;
DROP TABLE days_of_tests;
DROP TABLE kept;
DROP TABLE files;
DROP TABLE notes;
DROP TABLE sessions;
DROP TABLE leases;
DROP TABLE shared;
DROP TABLE details;
DROP TABLE attempts;
DROP TABLE walls;
DROP TABLE cells;
DROP TABLE tests;
DROP TABLE panes;
DROP TABLE runs;
DROP TABLE combos;
DROP TABLE tests_known;
DROP TABLE schedules;
DROP TABLE presets;
DROP TABLE quotas;
DROP TABLE projects;
DROP TABLE agents;
DROP TABLE tokens;
DROP TABLE texts;
