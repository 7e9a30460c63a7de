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

-- +goose Down
DROP TABLE aside;
DROP TABLE aged;
DROP TABLE stumbles;
DROP TABLE remembered;
