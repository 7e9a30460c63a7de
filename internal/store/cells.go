package store

import "context"

// Cell is a row of cells.
type Cell struct {
	Run      int    `db:"run"`
	Pane     int    `db:"pane"`
	Test     int    `db:"test"`
	Verdict  string `db:"verdict"`
	Attempts int    `db:"attempts"`
	TookMS   int64  `db:"took_ms"`
	Agent    string `db:"agent"`
	Why      string `db:"why"`
	Message  string `db:"message"`
}

const cellsOf = `SELECT c.run, c.pane, c.test, verdict(c.verdict) AS verdict, c.attempts, c.took_ms, COALESCE(x.body, '') AS agent,
	COALESCE(c.why, '') AS why, COALESCE(c.message, '') AS message FROM cells c LEFT JOIN texts x ON x.id = c.agent`

// say puts a text among texts; said is its number there.
func say(text string) Stmt { return Do(`INSERT OR IGNORE INTO texts (body) VALUES (?)`, text) }

const said = `(SELECT id FROM texts WHERE body = ?)`

// Settle writes the final state of a test in a pane, once.
func Settle(c Cell) []Stmt {
	return []Stmt{say(c.Agent), Must(`INSERT INTO cells (run, pane, test, known, combo, verdict, attempts, took_ms, agent, why, message)
		SELECT t.run, p.idx, t.idx, t.known, p.combo, ?, ?, ?, `+said+`, NULLIF(?, ''), NULLIF(?, '')
		FROM tests t, panes p WHERE t.run = ? AND t.idx = ? AND p.run = ? AND p.idx = ?`,
		code(c.Verdict), c.Attempts, c.TookMS, c.Agent, c.Why, c.Message, c.Run, c.Test, c.Run, c.Pane)}
}

// SettleUntried writes the final state of tests of a pane that were never tried. Its
// joins are in the order in which they are to be made: the database would look
// through the list anew for each test of the run.
func SettleUntried(run, pane int, tests []int, verdict, why string) []Stmt {
	return []Stmt{say(""), {`INSERT INTO cells (run, pane, test, known, combo, verdict, attempts, took_ms, agent, why)
		SELECT t.run, p.idx, t.idx, t.known, p.combo, ?, 0, 0, ` + said + `, NULLIF(?, '')
		FROM json_each(?) x CROSS JOIN tests t ON t.run = ? AND t.idx = x.value CROSS JOIN panes p ON p.run = ? AND p.idx = ?`,
		[]any{code(verdict), "", why, JSON(tests), run, run, pane}, int64(len(tests))}}
}

// AddCell adds a test to a pane of a run of sessions; pane and test are made where
// they are new.
func AddCell(r Run, p *Pane, t *Test, pane, test int) []Stmt {
	var panes []Pane
	var tests []Test
	if p != nil {
		panes = []Pane{*p}
	}
	if t != nil {
		tests = []Test{*t}
	}
	return append(addParts(r, panes, tests), say(""),
		Do(`INSERT OR IGNORE INTO cells (run, pane, test, known, combo, verdict, attempts, took_ms, agent)
		SELECT t.run, p.idx, t.idx, t.known, p.combo, 0, 0, 0, `+said+`
		FROM tests t, panes p WHERE t.run = ? AND t.idx = ? AND p.run = ? AND p.idx = ?`, "", r.Number, test, r.Number, pane))
}

// Regard writes the state of a cell of a run of sessions, whatever it was before.
func Regard(c Cell) []Stmt {
	return []Stmt{say(c.Agent), Do(`UPDATE cells SET verdict = ?, attempts = ?, took_ms = ?, agent = `+said+
		`, why = NULLIF(?, ''), message = NULLIF(?, '')
		WHERE run = ? AND pane = ? AND test = ?`, code(c.Verdict), c.Attempts, c.TookMS, c.Agent, c.Why, c.Message, c.Run, c.Pane, c.Test)}
}

// DayCount is how many cells that ran came to a verdict in the runs of a day.
type DayCount struct {
	Day     int64  `db:"day"` // since 1970
	Verdict string `db:"verdict"`
	Count   int    `db:"n"`
}

// DaysOfTest lists the counts of a test by day.
func (s *Store) DaysOfTest(ctx context.Context, project, suite, name string) (cs []DayCount, err error) {
	err = s.read.SelectContext(ctx, &cs, `SELECT d.day, verdict(d.verdict) AS verdict, d.n FROM days_of_tests d
		JOIN tests_known k ON k.id = d.known WHERE k.project = ? AND k.suite = ? AND k.name = ? AND d.n > 0
		ORDER BY d.day, d.verdict`, project, suite, name)
	return
}

// DaysOfCombination lists the counts of a combination in a project by day.
func (s *Store) DaysOfCombination(ctx context.Context, project, key string) (cs []DayCount, err error) {
	err = s.read.SelectContext(ctx, &cs, `SELECT d.day, verdict(d.verdict) AS verdict, d.n FROM days_of_combos d
		JOIN combos c ON c.id = d.combo WHERE d.project = ? AND c.key = ? AND d.n > 0 ORDER BY d.day, d.verdict`, project, key)
	return
}

// Estimate is what a test of a suite took of late in one combination.
type Estimate struct {
	Test    string
	Key     string
	Browser string
	Recent  string // at most nine, newest first, six hexadecimal digits of milliseconds each
	LastRun int
}

// Estimates lists what the tests of a suite took, those that ran last at the end.
// There may be many: their names are read apart.
func (s *Store) Estimates(ctx context.Context, project, suite string) (es []Estimate, err error) {
	tests, combos := map[int64]string{}, map[int64]Estimate{}
	rows, err := s.read.QueryContext(ctx, `SELECT id, name, '' FROM tests_known WHERE project = ? AND suite = ?
		UNION ALL SELECT -id, key, COALESCE(values_json ->> 'browser', '') FROM combos`, project, suite)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var name, browser string
		if err := rows.Scan(&id, &name, &browser); err != nil {
			return nil, err
		}
		if tests[id] = name; id < 0 {
			combos[-id] = Estimate{Key: name, Browser: browser}
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows, err = s.read.QueryContext(ctx, `SELECT e.known, e.combo, e.recent, e.last_run FROM tests_known k
		CROSS JOIN estimates e ON e.known = k.id
		WHERE k.project = ? AND k.suite = ? ORDER BY e.at`, project, suite)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var known, combo int64
		var e Estimate
		if err := rows.Scan(&known, &combo, &e.Recent, &e.LastRun); err != nil {
			return nil, err
		}
		e.Test, e.Key, e.Browser = tests[known], combos[combo].Key, combos[combo].Browser
		es = append(es, e)
	}
	return es, rows.Err()
}

// Met lists the pairs of test and combination that had a verdict of their own
// in the last n runs of a suite on a matrix, up to a run.
func (s *Store) Met(ctx context.Context, project, suite, matrix string, number, n int) (pairs []struct {
	Test string `db:"test"`
	Key  string `db:"key"`
}, err error) {
	err = s.read.SelectContext(ctx, &pairs, `SELECT k.name AS test, c.key FROM (SELECT DISTINCT x.known, x.combo FROM
		(SELECT number FROM runs WHERE project = ? AND suite = ? AND matrix = ? AND number <= ? ORDER BY number DESC LIMIT ?) r
		JOIN cells x ON x.run = r.number WHERE x.verdict IN (1, 2, 3)) m
		JOIN tests_known k ON k.id = m.known JOIN combos c ON c.id = m.combo`, project, suite, matrix, number, n)
	return
}

// RunBefore is the number of the nth newest run of a suite on a matrix; 0 when
// there are fewer.
func (s *Store) RunBefore(ctx context.Context, project, suite, matrix string, n int) (number int, err error) {
	err = s.read.GetContext(ctx, &number, `SELECT COALESCE((SELECT number FROM runs WHERE project = ? AND suite = ? AND matrix = ?
		ORDER BY number DESC LIMIT 1 OFFSET ?), 0)`, project, suite, matrix, n-1)
	return
}

// Spreads counts the runs of a suite on a matrix whose tests were spread.
func (s *Store) Spreads(ctx context.Context, project, suite, matrix string) (n int, err error) {
	err = s.read.GetContext(ctx, &n, `SELECT COUNT(*) FROM runs WHERE project = ? AND suite = ? AND matrix = ? AND spread
		AND again_of = 0`, project, suite, matrix)
	return
}
