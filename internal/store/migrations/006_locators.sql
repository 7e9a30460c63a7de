-- +goose Up
-- What the locators of tests matched when the test passed, by device: pages look different
-- on different ones. One row for each; what it says without where the element was is in
-- mark, so that it is written anew when the element is another one.
CREATE TABLE remembered (
    known  INTEGER NOT NULL REFERENCES tests_known (id),
    device TEXT    NOT NULL,
    place  TEXT    NOT NULL, -- of the locator in its test, by what it says
    mark   TEXT    NOT NULL,
    run    INTEGER NOT NULL, -- in which it was seen so
    at     INTEGER NOT NULL,
    body   TEXT    NOT NULL, -- JSON
    PRIMARY KEY (known, device, place)
) WITHOUT ROWID;
-- Steps at which tests failed, by what they are called: at these, passing runs keep what the
-- page was made of, for comparing.
CREATE TABLE stumbles (
    known INTEGER NOT NULL REFERENCES tests_known (id),
    title TEXT    NOT NULL,
    run   INTEGER NOT NULL, -- the last one
    PRIMARY KEY (known, title)
) WITHOUT ROWID;
-- Locators of a run that find nothing any more, with what is like what they found.
CREATE TABLE aged (
    run    INTEGER NOT NULL REFERENCES runs (number),
    pane   INTEGER NOT NULL,
    test   INTEGER NOT NULL,
    number INTEGER NOT NULL, -- of the attempt
    step   INTEGER NOT NULL,
    body   TEXT    NOT NULL, -- JSON
    PRIMARY KEY (run, pane, test, number, step)
) WITHOUT ROWID;
-- Steps of a run that took longer than their limits.
CREATE TABLE over (
    run     INTEGER NOT NULL REFERENCES runs (number),
    pane    INTEGER NOT NULL,
    test    INTEGER NOT NULL,
    number  INTEGER NOT NULL, -- of the attempt
    step    INTEGER NOT NULL,
    title   TEXT    NOT NULL,
    took_ms INTEGER NOT NULL,
    over_ms INTEGER NOT NULL, -- the limit
    PRIMARY KEY (run, pane, test, number, step)
) WITHOUT ROWID;
-- Tests whose failures turn no run red until a time.
CREATE TABLE aside (
    project TEXT    NOT NULL,
    suite   TEXT    NOT NULL,
    test    TEXT    NOT NULL,
    owner   TEXT    NOT NULL, -- who looks after it
    reason  TEXT    NOT NULL,
    until   INTEGER NOT NULL,
    by_whom TEXT    NOT NULL,
    at      INTEGER NOT NULL,
    PRIMARY KEY (project, suite, test)
) WITHOUT ROWID;

-- What a test came to in a combination in the last twenty runs that tried it, newest first:
-- a letter for the verdict and six hexadecimal digits of the run's number for each.
CREATE TABLE past (
    known INTEGER NOT NULL,
    combo INTEGER NOT NULL,
    runs  TEXT    NOT NULL,
    PRIMARY KEY (known, combo)
) WITHOUT ROWID;
INSERT INTO past (known, combo, runs)
    SELECT known, combo, group_concat(token, '') FROM (
        SELECT known, combo, substr('PFYLNSUA', verdict, 1) || printf('%06x', run) AS token,
            row_number() OVER (PARTITION BY known, combo ORDER BY run DESC) AS n
        FROM cells WHERE verdict > 0 AND attempts > 0)
    WHERE n <= 20 GROUP BY known, combo;
-- +goose StatementBegin
CREATE TRIGGER cells_past AFTER INSERT ON cells WHEN NEW.verdict > 0 AND NEW.attempts > 0 BEGIN
    INSERT INTO past (known, combo, runs)
        VALUES (NEW.known, NEW.combo, substr('PFYLNSUA', NEW.verdict, 1) || printf('%06x', NEW.run))
        ON CONFLICT DO UPDATE SET runs = substr(excluded.runs || runs, 1, 140);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER cells_repast AFTER UPDATE OF verdict ON cells
WHEN NEW.verdict != OLD.verdict AND (NEW.attempts > 0 OR OLD.attempts > 0) BEGIN
    INSERT INTO past (known, combo, runs)
        SELECT NEW.known, NEW.combo, substr('PFYLNSUA', NEW.verdict, 1) || printf('%06x', NEW.run)
        WHERE OLD.verdict = 0 AND NEW.attempts > 0
        ON CONFLICT DO UPDATE SET runs = substr(excluded.runs || runs, 1, 140);
    UPDATE past SET runs = replace(runs, substr('PFYLNSUA', OLD.verdict, 1) || printf('%06x', OLD.run),
            CASE WHEN NEW.verdict > 0 AND NEW.attempts > 0
                THEN substr('PFYLNSUA', NEW.verdict, 1) || printf('%06x', NEW.run) ELSE '' END)
        WHERE OLD.verdict > 0 AND known = NEW.known AND combo = NEW.combo;
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER cells_repast;
DROP TRIGGER cells_past;
DROP TABLE past;
DROP TABLE aside;
DROP TABLE over;
DROP TABLE aged;
DROP TABLE stumbles;
DROP TABLE remembered;
