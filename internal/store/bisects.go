package store

import "context"

// Bisect is a row of bisects.
type Bisect struct {
	ID        string `db:"id"`
	Project   string `db:"project"`
	Run       int    `db:"run"`
	Test      string `db:"test"`
	Ask       string `db:"ask_json"`
	Secrets   []byte `db:"secrets"`
	By        string `db:"by_name"`
	Answer    string `db:"answer"`
	StartedAt int64  `db:"started_at"`
	EndedAt   int64  `db:"ended_at"`
}

// BisectTry is a row of bisect_tries.
type BisectTry struct {
	Bisect    string `db:"bisect"`
	Place     int    `db:"place"`
	Candidate int    `db:"candidate"`
	Run       int    `db:"run"`
	Verdict   string `db:"verdict"`
	Session   string `db:"session"`
}

// AddBisect writes a search that begins.
func AddBisect(b Bisect) Stmt {
	return Must(`INSERT INTO bisects (id, project, run, test, ask_json, secrets, by_name, started_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		b.ID, b.Project, b.Run, b.Test, b.Ask, b.Secrets, b.By, b.StartedAt)
}

// SaveBisectTry writes a try, in place of what was known of it.
func SaveBisectTry(t BisectTry) Stmt {
	return Must(`INSERT INTO bisect_tries (bisect, place, candidate, run, verdict, session) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (bisect, place) DO UPDATE SET verdict = excluded.verdict, session = excluded.session`,
		t.Bisect, t.Place, t.Candidate, t.Run, t.Verdict, t.Session)
}

// EndBisect writes the answer of a search that goes on, and erases its secrets.
func EndBisect(id, answer string, at int64) Stmt {
	return Must(`UPDATE bisects SET answer = ?, ended_at = ?, secrets = NULL WHERE id = ? AND ended_at = 0`, answer, at, id)
}

// Bisects lists searches, newest first, at most n: those that go on alone, or all.
func (s *Store) Bisects(ctx context.Context, open bool, n int) (all []Bisect, err error) {
	where := ""
	if open {
		where = "WHERE ended_at = 0"
	}
	err = s.read.SelectContext(ctx, &all, `SELECT * FROM bisects `+where+` ORDER BY id DESC LIMIT ?`, n)
	return
}

// Bisect finds a search; the error is ErrNotFound if there is none.
func (s *Store) Bisect(ctx context.Context, id string) (b Bisect, err error) {
	err = found(s.read.GetContext(ctx, &b, `SELECT * FROM bisects WHERE id = ?`, id))
	return
}

// BisectTries lists the tries of a search in their order.
func (s *Store) BisectTries(ctx context.Context, id string) (all []BisectTry, err error) {
	err = s.read.SelectContext(ctx, &all, `SELECT * FROM bisect_tries WHERE bisect = ? ORDER BY place`, id)
	return
}

// BundlesBefore lists the bundles of a suite's runs up to a number, in the order in which
// they were first used, at most the last n of them.
func (s *Store) BundlesBefore(ctx context.Context, project, suite string, number, n int) (all []string, err error) {
	err = s.read.SelectContext(ctx, &all, `SELECT bundle FROM (SELECT bundle, MIN(number) AS first FROM runs
		WHERE project = ? AND suite = ? AND number <= ? AND bundle != '' GROUP BY bundle ORDER BY first DESC LIMIT ?) ORDER BY first`,
		project, suite, number, n)
	return
}
