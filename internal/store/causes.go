package store

import (
	"context"
	"encoding/json"
)

// KeepCauses stores how many cells of an ended run failed of which signature, unless the
// run was revised after they were told.
func KeepCauses(r Run, revised int, cells map[string]int) []Stmt {
	return []Stmt{
		Do(`DELETE FROM cause_runs WHERE run = ?`, r.Number),
		Do(`INSERT INTO cause_runs (run, signature, project, suite, cells)
			SELECT r.number, x.key, r.project, r.suite, x.value FROM runs r, json_each(?) x
			WHERE r.number = ? AND r.ended_at > 0 AND r.revised = ?`, JSON(cells), r.Number, revised),
	}
}

// KeepTold stores what was found out of an ended run's failures, unless the run was
// revised meanwhile.
func KeepTold(run, revised int, body []byte) Stmt {
	return Do(`INSERT OR REPLACE INTO told (run, body) SELECT number, ? FROM runs WHERE number = ? AND ended_at > 0 AND revised = ?`,
		body, run, revised)
}

// Told reads it.
func (s *Store) Told(ctx context.Context, run int) (body []byte, err error) {
	err = found(s.read.GetContext(ctx, &body, `SELECT body FROM told WHERE run = ?`, run))
	return
}

// CauseSeen says in which runs of a suite failures of one signature were seen.
type CauseSeen struct {
	Signature string `db:"signature"`
	First     int    `db:"first"`
	FirstAt   int64  `db:"first_at"`
	Bundle    string `db:"bundle"` // of the first
	Before    int    `db:"before"` // the last one before a run; 0 for none
	Last      int    `db:"last"`
	LastAt    int64  `db:"last_at"`
	Runs      int    `db:"runs"`
}

// CausesSeen looks signatures up, as seen from a run: its own row counts too.
func (s *Store) CausesSeen(ctx context.Context, project, suite string, run int, signatures []string) (out map[string]CauseSeen, err error) {
	var rows []CauseSeen
	asked, err := json.Marshal(signatures)
	if err != nil {
		return nil, err
	}
	err = s.read.SelectContext(ctx, &rows, `SELECT g.signature, g.first, f.created_at AS first_at, f.bundle, g.before, g.last,
			l.created_at AS last_at, g.runs FROM (
			SELECT signature, MIN(run) AS first, MAX(run) AS last, COUNT(*) AS runs,
				COALESCE(MAX(CASE WHEN run < ? THEN run END), 0) AS before
			FROM cause_runs WHERE project = ? AND suite = ? AND signature IN (SELECT value FROM json_each(?)) GROUP BY signature) g
		JOIN runs f ON f.number = g.first JOIN runs l ON l.number = g.last`, run, project, suite, string(asked))
	if err != nil {
		return nil, err
	}
	out = make(map[string]CauseSeen, len(rows))
	for _, r := range rows {
		out[r.Signature] = r
	}
	return out, nil
}

// RunsBefore are the last ended run of a suite before one, and the last of them that was
// green; 0 for none.
func (s *Store) RunsBefore(ctx context.Context, project, suite string, run int) (last, green int, err error) {
	err = s.read.QueryRowContext(ctx, `SELECT
		COALESCE((SELECT number FROM runs WHERE project = ? AND suite = ? AND number < ? AND ended_at > 0 ORDER BY number DESC LIMIT 1), 0),
		COALESCE((SELECT number FROM runs WHERE project = ? AND suite = ? AND number < ? AND verdict IN ('passed', 'flaky')
			ORDER BY number DESC LIMIT 1), 0)`, project, suite, run, project, suite, run).Scan(&last, &green)
	return last, green, err
}

// CellBefore is a cell of an earlier run, by the places of its pane and test in a later
// one.
type CellBefore struct {
	Run     int    `db:"run"`
	Pane    int    `db:"pane"`
	Test    int    `db:"test"`
	Verdict string `db:"verdict"`
	TookMS  int64  `db:"took_ms"`
	Message string `db:"message"`
}

// CellsBefore lists what some tests of a run came to in its panes' combinations in earlier
// runs, from one on, without those in which nothing ran. It reads tests × panes × runs
// rows of an index.
func (s *Store) CellsBefore(ctx context.Context, run, from int, tests []int) (cs []CellBefore, err error) {
	err = s.read.SelectContext(ctx, &cs, `SELECT c.run, p.idx AS pane, t.idx AS test, verdict(c.verdict) AS verdict, c.took_ms,
			COALESCE(c.message, c.why, '') AS message
		FROM json_each(?) x CROSS JOIN tests t ON t.run = ? AND t.idx = x.value CROSS JOIN panes p ON p.run = ?
		CROSS JOIN cells c ON c.known = t.known AND c.combo = p.combo AND c.run >= ? AND c.run < ?
		WHERE c.attempts > 0`, JSON(tests), run, run, from, run)
	return
}

// NthBefore is the number of the nth run of a suite before one; 0 when there are fewer.
func (s *Store) NthBefore(ctx context.Context, project, suite string, run, n int) (number int, err error) {
	err = s.read.GetContext(ctx, &number, `SELECT COALESCE((SELECT number FROM runs WHERE project = ? AND suite = ? AND number < ?
		ORDER BY number DESC LIMIT 1 OFFSET ?), 0)`, project, suite, run, n-1)
	return
}

// Trial is what a test came to in a combination, in one run.
type Trial struct {
	Test     string `db:"test"`
	Key      string `db:"key"`
	Label    string `db:"label"`
	Run      int    `db:"run"`
	At       int64  `db:"at"`
	Bundle   string `db:"bundle"`
	Verdict  string `db:"verdict"`
	Attempts int    `db:"attempts"`
	TookMS   int64  `db:"took_ms"`
	Agent    string `db:"agent"`
	Pane     int    `db:"pane"`
	Place    int    `db:"place"` // of the test in the run
}

// Trials lists what tests of a suite came to in its ended runs from one on, oldest first:
// of tests that failed or were flaky in one of them, and of those only. Its joins are in
// the order in which they are to be made.
func (s *Store) Trials(ctx context.Context, project, suite string, from int) (ts []Trial, err error) {
	err = s.read.SelectContext(ctx, &ts, `WITH r AS MATERIALIZED (SELECT number, created_at, bundle FROM runs
			WHERE project = ? AND suite = ? AND number >= ? AND ended_at > 0),
		bad AS MATERIALIZED (SELECT DISTINCT c.known FROM r CROSS JOIN cells c ON c.run = r.number WHERE c.verdict IN (?, ?, ?))
		SELECT k.name AS test, o.key, p.label, c.run, r.created_at AS at, r.bundle, verdict(c.verdict) AS verdict, c.attempts, c.took_ms,
			COALESCE(x.body, '') AS agent, c.pane, c.test AS place
		FROM r CROSS JOIN cells c ON c.run = r.number CROSS JOIN bad b ON b.known = c.known
		CROSS JOIN tests_known k ON k.id = c.known CROSS JOIN combos o ON o.id = c.combo
		CROSS JOIN panes p ON p.run = c.run AND p.idx = c.pane
		LEFT JOIN texts x ON x.id = c.agent WHERE c.attempts > 0 ORDER BY c.run`, project, suite, from, code("failed"),
		code("flaky"), code("aside"))
	return
}

// Order is when a test of a run, or of one before it, ran in its lease, by its places in
// the run.
type Order struct {
	Run       int   `db:"run"`
	Pane      int   `db:"pane"`
	Test      int   `db:"test"`
	Fence     int64 `db:"fence"`
	StartedAt int64 `db:"started_at"`
}

// Orders lists in which order tests ran for the first time in the leases of a run, and in
// those of the runs of its suite from one on, as far as the run has their panes and tests.
func (s *Store) Orders(ctx context.Context, run, from int) (os []Order, err error) {
	err = s.read.SelectContext(ctx, &os, `SELECT a.run, cp.idx AS pane, ct.idx AS test, a.fence, a.started_at
		FROM runs n JOIN runs r ON r.project = n.project AND r.suite = n.suite AND r.number >= ? AND r.number <= n.number
		JOIN attempts a ON a.run = r.number AND a.number = 1
		JOIN panes p ON p.run = a.run AND p.idx = a.pane JOIN panes cp ON cp.run = n.number AND cp.combo = p.combo
		JOIN tests t ON t.run = a.run AND t.idx = a.test JOIN tests ct ON ct.run = n.number AND ct.known = t.known
		WHERE n.number = ? ORDER BY a.run, a.fence, a.started_at`, from, run)
	return
}
