-- +goose Up
-- What the failures of a run come from, by what they say: in which runs of a suite each
-- cause was seen. Written when a run has ended, and anew when its verdicts change.
CREATE TABLE cause_runs (
    run       INTEGER NOT NULL REFERENCES runs (number),
    signature TEXT    NOT NULL,
    project   TEXT    NOT NULL,
    suite     TEXT    NOT NULL,
    cells     INTEGER NOT NULL, -- that failed of it
    PRIMARY KEY (run, signature)
) WITHOUT ROWID;
CREATE INDEX cause_runs_of ON cause_runs (project, suite, signature, run);
-- What was found out of an ended run's failures, ready to be read: JSON, compressed with
-- gzip. It is found out again where it is not there.
CREATE TABLE told (
    run  INTEGER PRIMARY KEY REFERENCES runs (number),
    body BLOB NOT NULL
);
