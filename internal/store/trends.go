package store

import "context"

// DayOf is how many cells that ran came to a verdict on a day, of a combination or of a
// test.
type DayOf struct {
	Project string `db:"project"`
	Suite   string `db:"suite"`
	Test    string `db:"test"`
	Key     string `db:"key"`
	Values  string `db:"values_json"`
	Day     int64  `db:"day"` // since 1970
	Verdict string `db:"verdict"`
	Count   int    `db:"n"`
}

// DaysOfCombos lists counts by combination and day, of a project or ("") of every one.
func (s *Store) DaysOfCombos(ctx context.Context, project string, from int64) (ds []DayOf, err error) {
	w := &where{}
	w.add(project != "", "d.project = ?", project)
	w.add(true, "d.day >= ?", from)
	err = s.read.SelectContext(ctx, &ds, `SELECT d.project, c.key, c.values_json, d.day, verdict(d.verdict) AS verdict, d.n
		FROM days_of_combos d JOIN combos c ON c.id = d.combo WHERE d.n > 0 AND `+w.String(), w.args...)
	return
}

// DaysOfTests lists counts by test and day likewise, of a suite or ("") of every one.
func (s *Store) DaysOfTests(ctx context.Context, project, suite string, from int64) (ds []DayOf, err error) {
	w := &where{}
	w.add(project != "", "k.project = ?", project)
	w.add(suite != "", "k.suite = ?", suite)
	w.add(true, "d.day >= ?", from)
	err = s.read.SelectContext(ctx, &ds, `SELECT k.project, k.suite, k.name AS test, d.day, verdict(d.verdict) AS verdict, d.n
		FROM tests_known k CROSS JOIN days_of_tests d ON d.known = k.id WHERE d.n > 0 AND `+w.String(), w.args...)
	return
}

// TookIn is what a passed cell took.
type TookIn struct {
	Test   string `db:"test"`
	Label  string `db:"label"`
	Key    string `db:"key"`
	Run    int    `db:"run"`
	Bundle string `db:"bundle"`
	TookMS int64  `db:"took_ms"`
}

// Paced lists what the passed cells of a suite's runs took, from one on, at most so many
// of them, the newest runs first.
func (s *Store) Paced(ctx context.Context, project, suite string, from, most int) (ts []TookIn, err error) {
	err = s.read.SelectContext(ctx, &ts, `SELECT k.name AS test, p.label, o.key, c.run, r.bundle, c.took_ms
		FROM (SELECT number, bundle FROM runs
			WHERE project = ? AND suite = ? AND number >= ? AND ended_at > 0 ORDER BY number DESC) r
		CROSS JOIN cells c ON c.run = r.number JOIN tests_known k ON k.id = c.known JOIN combos o ON o.id = c.combo
		JOIN panes p ON p.run = c.run AND p.idx = c.pane
		WHERE c.verdict = ? AND c.took_ms > 0 LIMIT ?`, project, suite, from, code("passed"), most)
	return
}

// FaultsOf counts lab faults of the runs made since a moment, by project and agent.
func (s *Store) FaultsOf(ctx context.Context, since int64) (fs []struct {
	Project string `db:"project"`
	Agent   string `db:"agent"`
	Count   int    `db:"n"`
}, err error) {
	err = s.read.SelectContext(ctx, &fs, `SELECT r.project, COALESCE(x.body, '') AS agent, COUNT(*) AS n
		FROM runs r CROSS JOIN cells c ON c.run = r.number LEFT JOIN texts x ON x.id = c.agent
		WHERE r.created_at >= ? AND c.verdict = ? GROUP BY r.project, agent ORDER BY n DESC`, since, code("lab-fault"))
	return
}

// NewestOfSuites lists the newest ended run of each suite that ran since a moment, the
// newest first; runs that tried nothing do not count.
func (s *Store) NewestOfSuites(ctx context.Context, since int64, most int) (numbers []int, err error) {
	err = s.read.SelectContext(ctx, &numbers, `SELECT MAX(number) FROM runs
		WHERE created_at >= ? AND ended_at > 0 AND verdict NOT IN ('skipped', 'unsupported')
		GROUP BY project, suite ORDER BY MAX(number) DESC LIMIT ?`, since, most)
	return
}
