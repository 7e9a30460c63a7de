package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Heap is all files of one project, kind and verdict together.
type Heap struct {
	Project string `db:"project"`
	Kind    string `db:"kind"`
	Verdict string `db:"verdict"`
	Files   int    `db:"n"`
	Bytes   int64  `db:"bytes"`
}

// Heaps lists what is kept.
func (s *Store) Heaps(ctx context.Context) (hs []Heap, err error) {
	err = s.read.SelectContext(ctx, &hs, `SELECT project, kind, verdict(verdict) AS verdict, n, bytes FROM kept WHERE n > 0
		ORDER BY project, kind, verdict`)
	return
}

// OldFile is a file with the end of its attempt.
type OldFile struct {
	File
	At int64 `db:"at"`
}

// OldFiles lists files of a heap whose attempts ended at a time or before, oldest
// first, after the first skip. Its cost is that of the files it lists and skips.
func (s *Store) OldFiles(ctx context.Context, h Heap, before int64, skip, limit int) (fs []OldFile, err error) {
	err = s.read.SelectContext(ctx, &fs, `SELECT uuid(attempt) AS attempt, name, kind, media, lower(hex(hash)) AS hash, size, session, at
		FROM files
		WHERE project = ? AND kind = ? AND verdict = ? AND at <= ? ORDER BY at, attempt, name LIMIT ? OFFSET ?`,
		h.Project, h.Kind, code(h.Verdict), before, limit, skip)
	return
}

// HashesInUse reports which of some contents, named by their SHA-256 in
// hexadecimal, a file, a run, a preset or a stocked browser still refers to.
func (s *Store) HashesInUse(ctx context.Context, hashes []string) (used []string, err error) {
	if len(hashes) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT DISTINCT lower(hex(f.hash)) FROM json_each(?) x CROSS JOIN files f ON f.hash = unhex(x.value)
		UNION SELECT bundle FROM runs WHERE bundle IN (?) UNION SELECT bundle FROM presets WHERE bundle IN (?)
		UNION SELECT hash FROM stock_archives WHERE hash IN (?)`, JSON(hashes), hashes, hashes, hashes)
	if err != nil {
		return nil, err
	}
	err = s.read.SelectContext(ctx, &used, query, args...)
	return
}
