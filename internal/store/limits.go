package store

import "context"

// Over is a step that took longer than its limit.
type Over struct {
	Run    int    `db:"run" json:"-"`
	Pane   int    `db:"pane" json:"-"`
	Place  int    `db:"place" json:"-"` // of the test in the run
	Test   string `db:"test" json:"-"`
	Label  string `db:"label" json:"-"`
	Step   int    `db:"step" json:"step"`
	Title  string `db:"title" json:"title"`
	TookMS int64  `db:"took_ms" json:"took_ms"`
	OverMS int64  `db:"over_ms" json:"over_ms"`
}

// AddOver writes those of an attempt.
func AddOver(a Attempt, all []Over) Stmt {
	return Do(`INSERT OR REPLACE INTO over (run, pane, test, number, step, title, took_ms, over_ms)
		SELECT ?, ?, ?, ?, x.value ->> 'step', x.value ->> 'title', x.value ->> 'took_ms', x.value ->> 'over_ms' FROM json_each(?) x`,
		a.Run, a.Pane, a.Test, a.Number, JSON(all))
}

// OverLimits lists those of a suite's runs from one on, at most n, the newest first.
func (s *Store) OverLimits(ctx context.Context, project, suite string, from, n int) (all []Over, err error) {
	err = s.read.SelectContext(ctx, &all, `SELECT o.run, o.pane, o.test AS place, k.name AS test, p.label, o.step, o.title,
			o.took_ms, o.over_ms
		FROM runs r CROSS JOIN over o ON o.run = r.number CROSS JOIN tests t ON t.run = o.run AND t.idx = o.test
		CROSS JOIN tests_known k ON k.id = t.known CROSS JOIN panes p ON p.run = o.run AND p.idx = o.pane
		WHERE r.project = ? AND r.suite = ? AND r.number >= ? ORDER BY o.run DESC LIMIT ?`, project, suite, from, n)
	return
}
