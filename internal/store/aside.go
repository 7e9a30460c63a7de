package store

import "context"

// Aside is a row of aside.
type Aside struct {
	Project string `db:"project"`
	Suite   string `db:"suite"`
	Test    string `db:"test"`
	Owner   string `db:"owner"`
	Reason  string `db:"reason"`
	Until   int64  `db:"until"`
	By      string `db:"by_whom"`
	At      int64  `db:"at"`
}

// SetAside writes that a test is set aside, in place of what was said of it before.
func SetAside(a Aside) Stmt {
	return Do(`INSERT OR REPLACE INTO aside (project, suite, test, owner, reason, until, by_whom, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		a.Project, a.Suite, a.Test, a.Owner, a.Reason, a.Until, a.By, a.At)
}

// EndAside forgets it.
func EndAside(project, suite, test string) Stmt {
	return Must(`DELETE FROM aside WHERE project = ? AND suite = ? AND test = ?`, project, suite, test)
}

// Asides lists them.
func (s *Store) Asides(ctx context.Context) (as []Aside, err error) {
	err = s.read.SelectContext(ctx, &as, `SELECT * FROM aside`)
	return
}

// Knows reports whether a run of a suite has had a test.
func (s *Store) Knows(ctx context.Context, project, suite, test string) (known bool, err error) {
	err = s.read.GetContext(ctx, &known, `SELECT EXISTS (SELECT 1 FROM tests_known WHERE project = ? AND suite = ? AND name = ?)`,
		project, suite, test)
	return
}
