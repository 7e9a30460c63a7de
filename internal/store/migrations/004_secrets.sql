-- +goose Up
-- Values that the runs of a project are given and that nobody may see.
CREATE TABLE secrets (
    project     TEXT    NOT NULL,
    environment TEXT    NOT NULL, -- '' for every one
    name        TEXT    NOT NULL,
    sealed      BLOB    NOT NULL,
    changed_by  TEXT    NOT NULL,
    changed_at  INTEGER NOT NULL,
    PRIMARY KEY (project, environment, name)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE secrets;
