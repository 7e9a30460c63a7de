package store

import (
	"context"

	"parallelpane/internal/core/suite"
)

// Rename gives tests of a suite other names: those that are called so, and those whose names
// begin so before suite.Part. What they did stays theirs. A name that is known already is
// not taken.
func Rename(project, in string, names []suite.Rename, run int) (batch []Stmt) {
	if len(names) == 0 {
		return nil
	}
	const pairs = `WITH pairs AS (SELECT k.id, k.name AS was, (x.value ->> 'is') || substr(k.name, length(x.value ->> 'was') + 1) AS now
		FROM json_each(?) x JOIN tests_known k ON k.project = ? AND k.suite = ?
			AND (k.name = x.value ->> 'was' OR substr(k.name, 1, length((x.value ->> 'was') || ?)) = (x.value ->> 'was') || ?)
		WHERE NOT EXISTS (SELECT 1 FROM tests_known n WHERE n.project = k.project AND n.suite = k.suite
			AND n.name = (x.value ->> 'is') || substr(k.name, length(x.value ->> 'was') + 1))) `
	args := []any{JSON(names), project, in, suite.Part, suite.Part}
	return []Stmt{
		Do(pairs+`UPDATE OR IGNORE aside SET test = (SELECT now FROM pairs WHERE was = aside.test)
			WHERE project = ? AND suite = ? AND test IN (SELECT was FROM pairs)`, append(args, project, in)...),
		Do(pairs+`INSERT OR REPLACE INTO renamed (known, was, run) SELECT id, was, ? FROM pairs`, append(args, run)...),
		Do(pairs+`UPDATE OR IGNORE tests_known SET name = (SELECT now FROM pairs WHERE pairs.id = tests_known.id)
			WHERE id IN (SELECT id FROM pairs)`, args...),
	}
}

// KnownTests are the names of the tests of a suite.
func (s *Store) KnownTests(ctx context.Context, project, suite string) (names []string, err error) {
	err = s.read.SelectContext(ctx, &names, `SELECT name FROM tests_known WHERE project = ? AND suite = ?`, project, suite)
	return
}

// FormerName is a name that a test had before.
type FormerName struct {
	Name string `db:"name"` // now
	Was  string `db:"was"`
	Run  int    `db:"run"` // the first one that did not call it so
}

// FormerNames lists the names that tests of a suite had.
func (s *Store) FormerNames(ctx context.Context, project, suite string) (ns []FormerName, err error) {
	err = s.read.SelectContext(ctx, &ns, `SELECT k.name, r.was, r.run FROM renamed r JOIN tests_known k ON k.id = r.known
		WHERE k.project = ? AND k.suite = ? ORDER BY r.run`, project, suite)
	return
}
