package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
)

// Run is a row of runs.
type Run struct {
	ID          string `db:"id"`
	Number      int    `db:"number"`
	Kind        string `db:"kind"`
	Project     string `db:"project"`
	Suite       string `db:"suite"`
	Matrix      string `db:"matrix"`
	Environment string `db:"environment"`
	By          string `db:"by_name"`
	Verdict     string `db:"verdict"`
	Why         string `db:"why"`
	Counts      string `db:"counts_json"`
	CreatedAt   int64  `db:"created_at"`
	StartedAt   int64  `db:"started_at"`
	EndedAt     int64  `db:"ended_at"`
	AgainOf     int    `db:"again_of"`
	Glances     string `db:"glances_json"`
	Revised     int    `db:"revised"`
	PresetID    string `db:"preset_id"`
	ScheduleID  string `db:"schedule_id"`
	Spread      bool   `db:"spread"`
	Bundle      string `db:"bundle"`
	Base        string `db:"base"`
	Vars        string `db:"vars_json"`
	Request     string `db:"request_json"`
	Plan        string `db:"plan_json"`
	Secrets     []byte `db:"secrets"`
	SecretNames string `db:"secret_names"`
}

// Pane is a row of panes with its combination.
type Pane struct {
	Run    int    `db:"run" json:"-"`
	Index  int    `db:"idx" json:"idx"`
	Key    string `db:"key" json:"key"`
	Label  string `db:"label" json:"label"`
	Values string `db:"values_json" json:"values"`
	Needs  string `db:"needs_json" json:"needs"`
	Dealt  string `db:"dealt_json" json:"dealt"` // which tests it has, as JSON; "" means every one
	Info   string `db:"info_json" json:"-"`
}

// Test is a row of tests with the name it is known by.
type Test struct {
	Run   int    `db:"run" json:"-"`
	Index int    `db:"idx" json:"idx"`
	Name  string `db:"name" json:"name"`
	File  string `db:"file" json:"file"`
	Tags  string `db:"tags_json" json:"tags"`
	Locks string `db:"locks_json" json:"locks"`
}

// AddRun writes a run with its panes and tests.
func AddRun(r Run, panes []Pane, tests []Test) []Stmt {
	return append([]Stmt{Must(`INSERT INTO runs (number, id, kind, project, suite, matrix, environment, by_name, counts_json,
		created_at, again_of,
		preset_id, schedule_id, spread, bundle, base, vars_json, request_json, plan_json, secrets, secret_names)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Number, r.ID, r.Kind, r.Project, r.Suite, r.Matrix, r.Environment, r.By, r.Counts, r.CreatedAt, r.AgainOf,
		r.PresetID, r.ScheduleID, r.Spread, r.Bundle, r.Base, r.Vars, r.Request, r.Plan, r.Secrets,
		cmp.Or(r.SecretNames, "[]"))}, addParts(r, panes, tests)...)
}

// addParts writes panes and tests of a run that has not these yet. Tests and
// combinations that nobody has met become known.
func addParts(r Run, panes []Pane, tests []Test) (batch []Stmt) {
	if len(panes) > 0 {
		all := JSON(panes)
		batch = append(batch,
			Do(`INSERT OR IGNORE INTO combos (key, values_json) SELECT value ->> 'key', value ->> 'values' FROM json_each(?)`, all),
			Stmt{`INSERT INTO panes (run, idx, combo, label, needs_json, dealt_json)
				SELECT ?, x.value ->> 'idx', c.id, x.value ->> 'label', x.value ->> 'needs', x.value ->> 'dealt'
				FROM json_each(?) x CROSS JOIN combos c ON c.key = x.value ->> 'key'`, []any{r.Number, all}, int64(len(panes))})
	}
	if len(tests) > 0 {
		all, suite := JSON(tests), r.knownSuite()
		batch = append(batch,
			Do(`INSERT OR IGNORE INTO tests_known (project, suite, name) SELECT ?, ?, value ->> 'name' FROM json_each(?)`, r.Project, suite, all),
			Stmt{`INSERT INTO tests (run, idx, known, file, tags_json, locks_json)
				SELECT ?, x.value ->> 'idx', k.id, x.value ->> 'file', x.value ->> 'tags', x.value ->> 'locks'
				FROM json_each(?) x CROSS JOIN tests_known k ON k.project = ? AND k.suite = ? AND k.name = x.value ->> 'name'`,
				[]any{r.Number, all, r.Project, suite}, int64(len(tests))})
	}
	return batch
}

// AddTests adds tests to a run; only number, kind, project and suite of it are looked
// at.
func AddTests(r Run, tests []Test) []Stmt { return addParts(r, nil, tests) }

// DealPane notes which tests of a run a pane has.
func DealPane(run, pane int, dealt string) Stmt {
	return Must(`UPDATE panes SET dealt_json = ? WHERE run = ? AND idx = ?`, dealt, run, pane)
}

// knownSuite is the suite that a run's tests are known by: the name of a run of
// sessions is none.
func (r Run) knownSuite() string {
	if r.Kind == "remote" {
		return ""
	}
	return r.Suite
}

// InformPane keeps what a pane runs on.
func InformPane(run, pane int, info string) Stmt {
	return Do(`UPDATE panes SET info_json = ? WHERE run = ? AND idx = ?`, info, run, pane)
}

// StartRun notes when the first lease of a run was granted.
func StartRun(run int, at int64) Stmt {
	return Do(`UPDATE runs SET started_at = ? WHERE number = ? AND started_at = 0`, at, run)
}

// Recount keeps a run's counts.
func Recount(run int, counts string) Stmt {
	return Do(`UPDATE runs SET counts_json = ? WHERE number = ?`, counts, run)
}

// EndRun closes a run; glances are its panes as a list shows them.
func EndRun(run int, verdict, counts, glances string, at int64) Stmt {
	return Must(`UPDATE runs SET verdict = ?, counts_json = ?, glances_json = ?, ended_at = ?, secrets = NULL
		WHERE number = ? AND ended_at = 0`,
		verdict, counts, glances, at, run)
}

// ExplainRun notes why a run ended early.
func ExplainRun(run int, why string) Stmt {
	return Do(`UPDATE runs SET why = ? WHERE number = ?`, why, run)
}

// ReopenRun takes the end of a run back.
func ReopenRun(run int) []Stmt {
	return []Stmt{
		Do(`UPDATE runs SET ended_at = 0, verdict = '', why = '', revised = revised + 1 WHERE number = ?`, run),
		Do(`DELETE FROM walls WHERE run = ?`, run),
		Do(`DELETE FROM told WHERE run = ?`, run),
	}
}

// ReviseRun gives an ended run another verdict and other counts.
func ReviseRun(run int, verdict, counts, glances string) []Stmt {
	return []Stmt{
		Do(`UPDATE runs SET verdict = ?, counts_json = ?, glances_json = ?, revised = revised + 1 WHERE number = ? AND ended_at > 0`,
			verdict, counts, glances, run),
		Do(`DELETE FROM walls WHERE run = ?`, run),
		Do(`DELETE FROM told WHERE run = ?`, run),
	}
}

// KeepWall stores the wall of an ended run, unless the run was revised after it
// was drawn.
func KeepWall(run, revised int, body []byte) Stmt {
	return Do(`INSERT OR REPLACE INTO walls (run, body) SELECT number, ? FROM runs WHERE number = ? AND ended_at > 0 AND revised = ?`,
		body, run, revised)
}

// Wall reads the stored wall of an ended run.
func (s *Store) Wall(ctx context.Context, run int) (body []byte, err error) {
	err = found(s.read.GetContext(ctx, &body, `SELECT body FROM walls WHERE run = ?`, run))
	return
}

// Lease is a row of leases: one that lives.
type Lease struct {
	Fence     int64  `db:"fence"`
	Run       int    `db:"run"`
	Pane      int    `db:"pane"`
	Agent     string `db:"agent"`
	Tests     string `db:"tests_json"`
	GrantedAt int64  `db:"granted_at"`
}

// AddLease writes a granted lease.
func AddLease(l Lease) Stmt {
	return Must(`INSERT INTO leases (fence, run, pane, agent, tests_json, granted_at) VALUES (?, ?, ?, ?, ?, ?)`,
		l.Fence, l.Run, l.Pane, l.Agent, l.Tests, l.GrantedAt)
}

// ChangeLease replaces the tests of a lease.
func ChangeLease(fence int64, tests string) Stmt {
	return Do(`UPDATE leases SET tests_json = ? WHERE fence = ?`, tests, fence)
}

// EndLease forgets a lease. What was done under it its attempts say.
func EndLease(fence int64) Stmt { return Do(`DELETE FROM leases WHERE fence = ?`, fence) }

// EndLeases forgets the leases of a run.
func EndLeases(run int) Stmt { return Do(`DELETE FROM leases WHERE run = ?`, run) }

// LastNumbers are the highest run number and lease fence ever used.
func (s *Store) LastNumbers(ctx context.Context) (run int, fence int64, err error) {
	err = s.read.QueryRowxContext(ctx, `SELECT COALESCE((SELECT MAX(number) FROM runs), 0),
		COALESCE((SELECT seq FROM sqlite_sequence WHERE name = 'leases'), 0)`).Scan(&run, &fence)
	return
}

// RunFilter narrows a list of runs. Empty fields do not.
type RunFilter struct {
	Project, Suite, Matrix, Environment string
	Bundle                              string // what it begins with
	Verdict, By                         string
	State                               string // open or ended
	Text                                string // in suite, matrix, environment, project or person
	Before                              int    // numbers below this one
	Limit                               int
	Among                               []string // projects; nil means every one
}

// where gathers the conditions of a list.
type where struct {
	clauses []string
	args    []any
}

// add takes a condition if it is asked for.
func (w *where) add(asked bool, clause string, args ...any) {
	if asked {
		w.clauses, w.args = append(w.clauses, clause), append(w.args, args...)
	}
}

// among takes a condition that a column has one of some values; nil means any.
func (w *where) among(column string, values []string) {
	if values == nil {
		return
	}
	w.add(true, column+" IN (SELECT value FROM json_each(?))", JSON(values))
}

// has takes a condition that text contains a part, whatever its case.
func (w *where) has(text, part string) {
	w.add(part != "", text+` LIKE ? ESCAPE '\'`, "%"+strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(part)+"%")
}

func (w *where) String() string { return strings.Join(append(w.clauses, "1"), " AND ") }

// runHead are the columns that a list shows.
const runHead = `number, id, kind, project, suite, matrix, environment, by_name, verdict, why, counts_json,
	created_at, started_at, ended_at, again_of, glances_json, bundle`

// Runs lists runs, newest first, with what a list shows of them.
func (s *Store) Runs(ctx context.Context, f RunFilter) (rs []Run, err error) {
	w := &where{}
	w.add(f.Project != "", "project = ?", f.Project)
	w.among("project", f.Among)
	w.add(f.Suite != "", "suite = ?", f.Suite)
	w.add(f.Matrix != "", "matrix = ?", f.Matrix)
	w.add(f.Environment != "", "environment = ?", f.Environment)
	w.add(f.Bundle != "", "substr(bundle, 1, ?) = ?", len(f.Bundle), f.Bundle)
	w.add(f.Verdict != "", "verdict = ?", f.Verdict)
	w.add(f.By != "", "by_name = ?", f.By)
	w.add(f.State == "open", "ended_at = 0")
	w.add(f.State == "ended", "ended_at > 0")
	w.has(`(project || ' ' || suite || ' ' || matrix || ' ' || environment || ' ' || by_name || ' #' || number)`, f.Text)
	w.add(f.Before > 0, "number < ?", f.Before)
	err = s.read.SelectContext(ctx, &rs, `SELECT `+runHead+` FROM runs WHERE `+w.String()+
		` ORDER BY number DESC LIMIT ?`, append(w.args, f.Limit)...)
	return
}

// RunByNumber finds a run.
func (s *Store) RunByNumber(ctx context.Context, number int) (r Run, err error) {
	err = found(s.read.GetContext(ctx, &r, `SELECT * FROM runs WHERE number = ?`, number))
	return
}

// RunByName finds the newest run of sessions with a name.
func (s *Store) RunByName(ctx context.Context, project, name string) (r Run, err error) {
	err = found(s.read.GetContext(ctx, &r, `SELECT * FROM runs WHERE kind = 'remote' AND project = ? AND suite = ?
		ORDER BY number DESC LIMIT 1`, project, name))
	return
}

// OpenRuns are the runs that have not ended, oldest first.
func (s *Store) OpenRuns(ctx context.Context) (rs []Run, err error) {
	err = s.read.SelectContext(ctx, &rs, `SELECT * FROM runs WHERE ended_at = 0 ORDER BY number`)
	return
}

// Whole is a run with everything needed to draw its wall.
type Whole struct {
	Panes    []Pane
	Tests    []Test
	Cells    []Cell
	Attempts []Attempt // without what they say in detail
	Leases   []Lease
}

const (
	panesOf = `SELECT p.run, p.idx, c.key, p.label, c.values_json, p.needs_json, p.dealt_json, p.info_json
		FROM panes p JOIN combos c ON c.id = p.combo WHERE p.run = ? ORDER BY p.idx`
	testsOf = `SELECT t.run, t.idx, k.name, t.file, t.tags_json, t.locks_json
		FROM tests t JOIN tests_known k ON k.id = t.known WHERE t.run = ? ORDER BY t.idx`
)

// PanesIn lists the panes of a run.
func (s *Store) PanesIn(ctx context.Context, run int) (ps []Pane, err error) {
	err = s.read.SelectContext(ctx, &ps, panesOf, run)
	return
}

// WholeRun reads the parts of a run.
func (s *Store) WholeRun(ctx context.Context, run int) (w Whole, err error) {
	for _, q := range []struct {
		into  any
		query string
	}{
		{&w.Panes, panesOf}, {&w.Tests, testsOf},
		{&w.Cells, cellsOf + ` WHERE c.run = ? ORDER BY c.pane, c.test`},
		{&w.Attempts, attemptsOf + ` WHERE a.run = ? ORDER BY a.pane, a.test, a.number`},
		{&w.Leases, `SELECT * FROM leases WHERE run = ? ORDER BY fence`},
	} {
		if readErr := s.read.SelectContext(ctx, q.into, q.query, run); readErr != nil {
			err = errors.Join(err, fmt.Errorf("read run %d: %w", run, readErr))
		}
	}
	return w, err
}
