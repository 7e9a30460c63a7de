-- +goose Up
-- Where defects are filed. Its address and what opens it are sealed.
CREATE TABLE trackers (
    id      TEXT PRIMARY KEY,
    project TEXT    NOT NULL,
    name    TEXT    NOT NULL,
    shown   TEXT    NOT NULL, -- its address, as far as everybody may see it
    host    TEXT    NOT NULL,
    mapping TEXT    NOT NULL, -- JSON; '' where it speaks as the lab does
    sealed  BLOB    NOT NULL,
    made_by TEXT    NOT NULL,
    made_at INTEGER NOT NULL,
    UNIQUE (project, name)
);
-- A defect of a cause, in a tracker: one for a cause, in whichever run.
CREATE TABLE defects (
    id        TEXT PRIMARY KEY,
    project   TEXT    NOT NULL,
    suite     TEXT    NOT NULL,
    signature TEXT    NOT NULL,
    tracker   TEXT    NOT NULL,
    run       INTEGER NOT NULL, -- in which it was filed
    cause     TEXT    NOT NULL, -- its id in that run
    title     TEXT    NOT NULL,
    body      TEXT    NOT NULL, -- the filled form, as JSON
    state     TEXT    NOT NULL, -- waiting, filed or refused
    key       TEXT    NOT NULL DEFAULT '', -- what the tracker calls it
    link      TEXT    NOT NULL DEFAULT '', -- for people
    place     TEXT    NOT NULL DEFAULT '', -- where the tracker is asked of it
    status    TEXT    NOT NULL DEFAULT '', -- as the tracker says it
    closed    INTEGER NOT NULL DEFAULT 0,
    asked_at  INTEGER NOT NULL DEFAULT 0,
    trouble   TEXT    NOT NULL DEFAULT '', -- why it was not filed, or could not be asked of
    told      INTEGER NOT NULL DEFAULT 0,  -- the newest run of which the tracker was told that it is back
    made_by   TEXT    NOT NULL,
    made_at   INTEGER NOT NULL,
    UNIQUE (project, suite, signature)
);
CREATE INDEX defects_asked ON defects (asked_at) WHERE state = 'filed';
-- A tracker is told again when a cause is back: after a run without it, or though its defect
-- is closed.
-- +goose StatementBegin
CREATE TRIGGER causes_back AFTER INSERT ON cause_runs BEGIN
    INSERT OR IGNORE INTO outbox (id, subscription, of, project, run, host, made_at, next_at)
        SELECT d.id || ':' || NEW.run, d.tracker, 'back', d.project, NEW.run, t.host, r.ended_at, r.ended_at
        FROM defects d JOIN trackers t ON t.id = d.tracker JOIN runs r ON r.number = NEW.run
        WHERE d.project = NEW.project AND d.suite = NEW.suite AND d.signature = NEW.signature AND d.state = 'filed' AND d.run < NEW.run
            AND (d.closed OR NOT EXISTS (SELECT 1 FROM cause_runs c WHERE c.signature = NEW.signature
                AND c.run = (SELECT MAX(number) FROM runs WHERE project = NEW.project AND suite = NEW.suite
                    AND number < NEW.run AND ended_at > 0)));
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER causes_back;
DROP TABLE defects;
DROP TABLE trackers;
