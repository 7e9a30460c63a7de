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

// watched is how many steps of a test are remembered as those at which it failed.
const watched = 3

// Stumble takes down at which step a test of a run failed.
func Stumble(run, test int, title string) []Stmt {
	return []Stmt{Do(`INSERT INTO stumbles (known, title, run) SELECT known, ?, run FROM tests WHERE run = ? AND idx = ?
			ON CONFLICT DO UPDATE SET run = excluded.run`, title, run, test),
		Do(`DELETE FROM stumbles WHERE known = (SELECT known FROM tests WHERE run = ?1 AND idx = ?2) AND title NOT IN (SELECT title FROM stumbles
			WHERE known = (SELECT known FROM tests WHERE run = ?1 AND idx = ?2) ORDER BY run DESC, title LIMIT ?3)`, run, test, watched)}
}

// Stumbles lists at which steps the tests of a suite failed, by test.
func (s *Store) Stumbles(ctx context.Context, project, suite string) (map[string][]string, error) {
	var rows []struct {
		Test  string `db:"test"`
		Title string `db:"title"`
	}
	err := s.read.SelectContext(ctx, &rows, `SELECT k.name AS test, x.title FROM tests_known k JOIN stumbles x ON x.known = k.id
		WHERE k.project = ? AND k.suite = ? ORDER BY k.id, x.run DESC`, project, suite)
	out := map[string][]string{}
	for _, r := range rows {
		out[r.Test] = append(out[r.Test], r.Title)
	}
	return out, err
}
