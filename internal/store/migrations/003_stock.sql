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

-- +goose Down
DROP TABLE stock_archives;
DROP TABLE stock;
