-- +goose Up
-- What agents did by day: of each project, by the day on which its attempts began, and with
-- the empty project what they offered while they were online.
CREATE TABLE days_of_agents (
    agent      INTEGER NOT NULL, -- of texts
    project    TEXT    NOT NULL,
    day        INTEGER NOT NULL,
    attempts   INTEGER NOT NULL DEFAULT 0,
    faults     INTEGER NOT NULL DEFAULT 0, -- of these, lab faults
    busy_ms    INTEGER NOT NULL DEFAULT 0,
    offered_ms INTEGER NOT NULL DEFAULT 0, -- slots times the time online
    PRIMARY KEY (agent, project, day)
) WITHOUT ROWID;
INSERT INTO days_of_agents (agent, project, day, attempts, faults, busy_ms)
    SELECT a.agent, r.project, a.started_at / 86400000, COUNT(*), SUM(a.verdict = 4), SUM(a.took_ms)
    FROM attempts a JOIN runs r ON r.number = a.run GROUP BY 1, 2, 3;
-- +goose StatementBegin
CREATE TRIGGER attempts_worked AFTER INSERT ON attempts BEGIN
    INSERT INTO days_of_agents (agent, project, day, attempts, faults, busy_ms)
        SELECT NEW.agent, project, NEW.started_at / 86400000, 1, NEW.verdict = 4, NEW.took_ms FROM runs WHERE number = NEW.run
        ON CONFLICT DO UPDATE SET attempts = attempts + 1, faults = faults + excluded.faults, busy_ms = busy_ms + excluded.busy_ms;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER attempts_rejudged AFTER UPDATE OF verdict ON attempts WHEN (NEW.verdict = 4) != (OLD.verdict = 4) BEGIN
    UPDATE days_of_agents SET faults = faults + (NEW.verdict = 4) - (OLD.verdict = 4)
        WHERE agent = NEW.agent AND day = NEW.started_at / 86400000 AND project = (SELECT project FROM runs WHERE number = NEW.run);
END;
-- +goose StatementEnd

-- Names that tests had, by content: a test whose file moved or whose name changed keeps its
-- history.
CREATE TABLE renamed (
    known INTEGER NOT NULL REFERENCES tests_known (id),
    was   TEXT    NOT NULL,
    run   INTEGER NOT NULL, -- the first one with the new name
    PRIMARY KEY (known, was)
) WITHOUT ROWID;
-- Runs say more than when these were drawn: they are drawn anew when somebody looks.
DELETE FROM walls;

-- +goose Down
DROP TABLE renamed;
DROP TRIGGER attempts_rejudged;
DROP TRIGGER attempts_worked;
DROP TABLE days_of_agents;
