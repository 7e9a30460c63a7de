package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/jmoiron/sqlx"
)

// Database is the file of the database in a directory.
const Database = "pane.db"

// Snapshot writes the database as it is at one moment to a file that must not exist,
// while it goes on being used.
func (s *Store) Snapshot(ctx context.Context, path string) error {
	db, err := sqlx.Open("sqlite", "file:"+s.path+"?_pragma=busy_timeout(10000)")
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "VACUUM INTO ?", path)
	return errors.Join(err, db.Close())
}

// Look opens the database in a directory to be read only, as it is; it may be in use.
func Look(dir string) (*Store, error) {
	path := filepath.Join(dir, Database)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there are no records in %s: %w", dir, err)
	}
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(10000)&_pragma=query_only(1)")
	if err != nil {
		return nil, err
	}
	return &Store{path: path, read: db}, nil
}

// Leave closes a database that was opened with Look.
func (s *Store) Leave() error { return s.read.Close() }

// Integrity lists what SQLite finds wrong with the database, at most a hundred findings.
func (s *Store) Integrity(ctx context.Context) ([]string, error) {
	var found []string
	if err := s.read.SelectContext(ctx, &found, "PRAGMA integrity_check(100)"); err != nil {
		return nil, err
	}
	if len(found) == 1 && found[0] == "ok" {
		found = nil
	}
	rows, err := s.read.QueryxContext(ctx, "PRAGMA foreign_key_check")
	if err != nil {
		return found, err
	}
	defer rows.Close()
	for rows.Next() && len(found) < 100 {
		row, err := rows.SliceScan()
		if err != nil {
			return found, err
		}
		found = append(found, fmt.Sprintf("row %v of %v names something in %v that is not there", row[1], row[0], row[2]))
	}
	return found, rows.Err()
}

// Numbers lists the numbers of runs above one, at most n of them.
func (s *Store) Numbers(ctx context.Context, above, n int) (out []int, err error) {
	err = s.read.SelectContext(ctx, &out, `SELECT number FROM runs WHERE number > ? ORDER BY number LIMIT ?`, above, n)
	return
}

// Contents lists the contents that files of attempts name, and the bundles of runs and
// presets, and archives of stocked browsers, without those that come before one, at most n of them.
func (s *Store) Contents(ctx context.Context, after string, n int) (out []string, err error) {
	err = s.read.SelectContext(ctx, &out, `SELECT h FROM (SELECT lower(hex(hash)) AS h FROM files UNION SELECT bundle FROM runs
		WHERE bundle != '' UNION SELECT bundle FROM presets UNION SELECT hash FROM stock_archives) WHERE h > ? ORDER BY h LIMIT ?`, after, n)
	return
}
