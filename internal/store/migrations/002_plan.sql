-- +goose Up
ALTER TABLE runs ADD COLUMN plan_json TEXT NOT NULL DEFAULT '{}'; -- what its matrix left out
ALTER TABLE runs ADD COLUMN again_of INTEGER NOT NULL DEFAULT 0;  -- number of the run it repeats
ALTER TABLE runs ADD COLUMN preset_id TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN schedule_id TEXT NOT NULL DEFAULT '';
ALTER TABLE tests ADD COLUMN locks_json TEXT NOT NULL DEFAULT '[]';
ALTER TABLE agents ADD COLUMN draining INTEGER NOT NULL DEFAULT 0;
CREATE INDEX runs_of_suite ON runs (project, suite, number);
CREATE INDEX runs_of_preset ON runs (preset_id, number) WHERE preset_id != '';
CREATE TABLE quotas (
    id          TEXT PRIMARY KEY,
    kind        TEXT    NOT NULL, -- project, owner or combination
    name        TEXT    NOT NULL,
    values_json TEXT    NOT NULL,
    slots       INTEGER NOT NULL, -- 0 means no bound
    weight      REAL    NOT NULL  -- of a project; 0 means 1
);
CREATE UNIQUE INDEX quotas_of ON quotas (kind, name, values_json);
CREATE TABLE presets (
    id           TEXT PRIMARY KEY,
    name         TEXT    NOT NULL UNIQUE,
    project      TEXT    NOT NULL,
    request_json TEXT    NOT NULL,
    made_by      TEXT    NOT NULL,
    made_at      INTEGER NOT NULL,
    changed_by   TEXT    NOT NULL,
    changed_at   INTEGER NOT NULL
);
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

-- +goose Down
DROP TABLE schedules;
DROP TABLE presets;
DROP TABLE quotas;
DROP INDEX runs_of_preset;
DROP INDEX runs_of_suite;
ALTER TABLE agents DROP COLUMN draining;
ALTER TABLE tests DROP COLUMN locks_json;
ALTER TABLE runs DROP COLUMN schedule_id;
ALTER TABLE runs DROP COLUMN preset_id;
ALTER TABLE runs DROP COLUMN again_of;
ALTER TABLE runs DROP COLUMN plan_json;
