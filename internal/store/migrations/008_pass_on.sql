-- +goose Up
-- A token that shows one thing and nothing else, as JSON; '' for every other.
ALTER TABLE tokens ADD COLUMN share_json TEXT NOT NULL DEFAULT '';

-- Who hears of what, by mail or at an address of the web.
CREATE TABLE subscriptions (
    id      TEXT PRIMARY KEY,
    project TEXT    NOT NULL,
    suite   TEXT    NOT NULL, -- '' for every one
    kind    TEXT    NOT NULL, -- mail or hook
    shown   TEXT    NOT NULL, -- where it goes, as far as everybody may see it
    host    TEXT    NOT NULL, -- that has to do with it: those of one wait for each other
    of      TEXT    NOT NULL, -- words: failed, changed, ended, daily
    sealed  BLOB    NOT NULL, -- where it goes, and the key that it is signed with
    made_by TEXT    NOT NULL,
    made_at INTEGER NOT NULL,
    paused  INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX subscriptions_of ON subscriptions (project);
-- What is to be sent, and what became of it. What it says is made of the records when it
-- is sent.
CREATE TABLE outbox (
    id           TEXT PRIMARY KEY, -- of the subscription, and of what it tells: nothing is told twice
    subscription TEXT    NOT NULL,
    of           TEXT    NOT NULL, -- failed, changed, ended, daily or trial
    project      TEXT    NOT NULL,
    run          INTEGER NOT NULL, -- 0 for none
    host         TEXT    NOT NULL,
    state        TEXT    NOT NULL DEFAULT 'waiting', -- sent, given-up
    tries        INTEGER NOT NULL DEFAULT 0,
    made_at      INTEGER NOT NULL,
    next_at      INTEGER NOT NULL, -- not before
    done_at      INTEGER NOT NULL DEFAULT 0,
    answer       TEXT    NOT NULL DEFAULT '' -- to the last try
);
CREATE INDEX outbox_due ON outbox (next_at) WHERE state = 'waiting';
CREATE INDEX outbox_of ON outbox (project, made_at);
-- A run's end and what is told of it are one write. A run that goes on and ends again, as
-- those of somebody's own runner do, is told again where it comes to another verdict.
-- +goose StatementBegin
CREATE TRIGGER runs_told AFTER UPDATE OF ended_at ON runs WHEN OLD.ended_at = 0 AND NEW.ended_at > 0 BEGIN
    INSERT OR IGNORE INTO outbox (id, subscription, of, project, run, host, made_at, next_at)
        SELECT s.id || ':' || NEW.number || ':' || NEW.verdict, s.id,
            CASE WHEN p.verdict != NEW.verdict AND instr(s.of, 'changed') THEN 'changed'
                WHEN NEW.verdict IN ('failed', 'lab-fault') AND instr(s.of, 'failed') THEN 'failed' ELSE 'ended' END,
            NEW.project, NEW.number, s.host, NEW.ended_at, NEW.ended_at
        FROM subscriptions s LEFT JOIN runs p ON p.number = (SELECT MAX(number) FROM runs
            WHERE project = NEW.project AND suite = NEW.suite AND matrix = NEW.matrix AND environment = NEW.environment
                AND number < NEW.number AND ended_at > 0)
        WHERE s.paused = 0 AND s.project = NEW.project AND s.suite IN ('', NEW.suite)
            AND (instr(s.of, 'ended') OR instr(s.of, 'failed') AND NEW.verdict IN ('failed', 'lab-fault')
                OR instr(s.of, 'changed') AND p.verdict != NEW.verdict);
END;
-- +goose StatementEnd
-- What somebody noted of a run, of a test or of a cause; the latter two whatever the run.
CREATE TABLE remarks (
    id        TEXT PRIMARY KEY,
    project   TEXT    NOT NULL,
    suite     TEXT    NOT NULL,
    kind      TEXT    NOT NULL, -- run, test or cause
    run       INTEGER NOT NULL, -- in which it was noted
    test      TEXT    NOT NULL, -- its name, of a test
    signature TEXT    NOT NULL, -- of a cause
    title     TEXT    NOT NULL, -- of what it is about, for people
    body      TEXT    NOT NULL, -- Markdown
    mentions  TEXT    NOT NULL, -- names, each between spaces
    by_name   TEXT    NOT NULL,
    at        INTEGER NOT NULL
);
CREATE INDEX remarks_of ON remarks (project, suite, kind);

-- +goose Down
DROP TABLE remarks;
DROP TRIGGER runs_told;
DROP TABLE outbox;
DROP TABLE subscriptions;
ALTER TABLE tokens DROP COLUMN share_json;
