package store

import "context"

// Seen is what a locator of a test matched.
type Seen struct {
	Place string `json:"place" db:"place"`
	Mark  string `json:"mark" db:"mark"` // what it says without where the element was
	Body  string `json:"body" db:"body"` // JSON
	Run   int    `json:"-" db:"run"`
	Test  string `json:"-" db:"test"`
}

// renewed is after how long what is remembered is written again though nothing but the
// place of the element may have changed, in milliseconds.
const renewed = 7 * 24 * 3_600_000

// Remember takes down what the locators of a test of a run matched on a device.
func Remember(run, test int, device string, at int64, seen []Seen) Stmt {
	return Do(`INSERT INTO remembered (known, device, place, mark, run, at, body)
		SELECT t.known, ?, x.value ->> 'place', x.value ->> 'mark', t.run, ?, x.value ->> 'body'
		FROM tests t, json_each(?) x WHERE t.run = ? AND t.idx = ?
		ON CONFLICT DO UPDATE SET mark = excluded.mark, run = excluded.run, at = excluded.at, body = excluded.body
		WHERE mark <> excluded.mark OR at < excluded.at - ?`, device, at, JSON(seen), run, test, renewed)
}

// Remembered is what a locator of a test matched when the test last passed on a device.
func (s *Store) Remembered(ctx context.Context, project, suite, test, device, place string) (seen Seen, err error) {
	err = found(s.read.GetContext(ctx, &seen, `SELECT m.place, m.mark, m.body, m.run FROM tests_known k
		JOIN remembered m ON m.known = k.id
		WHERE k.project = ? AND k.suite = ? AND k.name = ? AND m.device = ? AND m.place = ?`, project, suite, test, device, place))
	return
}

// RememberedOf is all that is remembered of the tests of a suite, test by test: of each
// locator what was seen last.
func (s *Store) RememberedOf(ctx context.Context, project, suite string) (all []Seen, err error) {
	err = s.read.SelectContext(ctx, &all, `SELECT k.name AS test, m.place, m.mark, m.body, MAX(m.run) AS run FROM tests_known k
		JOIN remembered m ON m.known = k.id WHERE k.project = ? AND k.suite = ? GROUP BY k.id, m.place ORDER BY k.name, m.place`,
		project, suite)
	return
}

// Aged is a locator that found nothing.
type Aged struct {
	Pane   int    `db:"pane" json:"-"`
	Test   int    `db:"test" json:"-"`
	Number int    `db:"number" json:"-"`
	Step   int    `db:"step" json:"step"`
	Body   string `db:"body" json:"body"`
}

// AddAged writes those of an attempt.
func AddAged(a Attempt, all []Aged) Stmt {
	return Do(`INSERT OR REPLACE INTO aged (run, pane, test, number, step, body)
		SELECT ?, ?, ?, ?, x.value ->> 'step', x.value ->> 'body' FROM json_each(?) x`, a.Run, a.Pane, a.Test, a.Number, JSON(all))
}

// AgedIn lists those of a run, at most n: of each test and pane its last attempt's.
func (s *Store) AgedIn(ctx context.Context, run, n int) (all []Aged, err error) {
	err = s.read.SelectContext(ctx, &all, `SELECT pane, test, number, step, body FROM aged a WHERE run = ?
		AND number = (SELECT MAX(number) FROM attempts WHERE run = a.run AND pane = a.pane AND test = a.test)
		ORDER BY test, pane, step LIMIT ?`, run, n)
	return
}
