package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"
)

// ErrNotFound means that there is no such record.
var ErrNotFound = errors.New("not found")

func found(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Token is a row of tokens.
type Token struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Role      string `db:"role"`
	Hash      []byte `db:"hash"`
	CreatedAt int64  `db:"created_at"`
}

// AddToken writes a token.
func AddToken(t Token) Stmt {
	return Must(`INSERT INTO tokens (id, name, role, hash, created_at) VALUES (?, ?, ?, ?, ?)`, t.ID, t.Name, t.Role, t.Hash, t.CreatedAt)
}

// DropToken removes a token.
func DropToken(id string) Stmt { return Must(`DELETE FROM tokens WHERE id = ?`, id) }

// TokenByHash finds a token by the SHA-256 of its secret.
func (s *Store) TokenByHash(ctx context.Context, hash []byte) (t Token, err error) {
	err = found(s.read.GetContext(ctx, &t, `SELECT * FROM tokens WHERE hash = ?`, hash))
	return
}

// Tokens lists every token, oldest first.
func (s *Store) Tokens(ctx context.Context) (ts []Token, err error) {
	err = s.read.SelectContext(ctx, &ts, `SELECT * FROM tokens ORDER BY created_at, id`)
	return
}

// Agent is a row of agents.
type Agent struct {
	Name      string `db:"name"`
	Instance  string `db:"instance"`
	Machine   string `db:"machine_json"`
	FirstSeen int64  `db:"first_seen"`
	LastSeen  int64  `db:"last_seen"`
	Draining  bool   `db:"draining"`
}

// SaveAgent writes what an agent said of itself when it joined.
func SaveAgent(a Agent) Stmt {
	return Do(`INSERT INTO agents (name, instance, machine_json, first_seen, last_seen) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET instance = excluded.instance, machine_json = excluded.machine_json, last_seen = excluded.last_seen`,
		a.Name, a.Instance, a.Machine, a.FirstSeen, a.LastSeen)
}

// SawAgent notes when an agent was last there.
func SawAgent(name string, at int64) Stmt {
	return Do(`UPDATE agents SET last_seen = ? WHERE name = ?`, at, name)
}

// DropAgent removes an agent.
func DropAgent(name string) Stmt { return Must(`DELETE FROM agents WHERE name = ?`, name) }

// Agents lists every agent by name.
func (s *Store) Agents(ctx context.Context) (as []Agent, err error) {
	err = s.read.SelectContext(ctx, &as, `SELECT * FROM agents ORDER BY name`)
	return
}

// Run is a row of runs.
type Run struct {
	ID          string `db:"id"`
	Number      int    `db:"number"`
	Project     string `db:"project"`
	Suite       string `db:"suite"`
	Matrix      string `db:"matrix"`
	Environment string `db:"environment"`
	Base        string `db:"base"`
	Vars        string `db:"vars_json"`
	Bundle      string `db:"bundle"`
	Request     string `db:"request_json"`
	By          string `db:"by_name"`
	Verdict     string `db:"verdict"`
	Why         string `db:"why"`
	Counts      string `db:"counts_json"`
	CreatedAt   int64  `db:"created_at"`
	StartedAt   int64  `db:"started_at"`
	EndedAt     int64  `db:"ended_at"`
	Plan        string `db:"plan_json"`
	AgainOf     int    `db:"again_of"`
	PresetID    string `db:"preset_id"`
	ScheduleID  string `db:"schedule_id"`
	Kind        string `db:"kind"`
	Secrets     []byte `db:"secrets"`
}

// Pane is a row of panes.
type Pane struct {
	RunID  string `db:"run_id"`
	Index  int    `db:"idx"`
	Key    string `db:"key"`
	Label  string `db:"label"`
	Values string `db:"values_json"`
	Needs  string `db:"needs_json"`
	Info   string `db:"info_json"`
}

// Test is a row of tests.
type Test struct {
	RunID string `db:"run_id"`
	Index int    `db:"idx"`
	Name  string `db:"name"`
	File  string `db:"file"`
	Tags  string `db:"tags_json"`
	Locks string `db:"locks_json"`
}

// AddRun writes a run with its panes and tests and an empty result for each
// test that is dealt to a pane.
func AddRun(r Run, w Whole) []Stmt {
	batch := []Stmt{Must(`INSERT INTO runs (id, number, project, suite, matrix, environment, base, vars_json, bundle, request_json, by_name, counts_json, created_at,
		plan_json, again_of, preset_id, schedule_id, kind, secrets) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.ID, r.Number, r.Project, r.Suite, r.Matrix, r.Environment, r.Base, r.Vars, r.Bundle, r.Request, r.By, r.Counts, r.CreatedAt,
		r.Plan, r.AgainOf, r.PresetID, r.ScheduleID, cmp.Or(r.Kind, "script"), r.Secrets)}
	for _, p := range w.Panes {
		batch = append(batch, Must(`INSERT INTO panes (run_id, idx, key, label, values_json, needs_json) VALUES (?, ?, ?, ?, ?, ?)`,
			r.ID, p.Index, p.Key, p.Label, p.Values, p.Needs))
	}
	for _, t := range w.Tests {
		batch = append(batch, Must(`INSERT INTO tests (run_id, idx, name, file, tags_json, locks_json) VALUES (?, ?, ?, ?, ?, ?)`,
			r.ID, t.Index, t.Name, t.File, t.Tags, t.Locks))
	}
	if len(w.Results) == len(w.Panes)*len(w.Tests) { // every test in every pane: the database can do it by itself
		return append(batch, Do(`INSERT INTO results (run_id, pane, test) SELECT ?, p.idx, t.idx FROM panes p, tests t WHERE p.run_id = ? AND t.run_id = ?`, r.ID, r.ID, r.ID))
	}
	for _, x := range w.Results {
		batch = append(batch, Must(`INSERT INTO results (run_id, pane, test) VALUES (?, ?, ?)`, r.ID, x.Pane, x.Test))
	}
	return batch
}

// InformPane keeps what a pane runs on.
func InformPane(run string, pane int, info string) Stmt {
	return Do(`UPDATE panes SET info_json = ? WHERE run_id = ? AND idx = ?`, info, run, pane)
}

// StartRun notes when the first lease of a run was granted.
func StartRun(id string, at int64) Stmt {
	return Do(`UPDATE runs SET started_at = ? WHERE id = ? AND started_at = 0`, at, id)
}

// Recount keeps a run's counts.
func Recount(id, counts string) Stmt {
	return Do(`UPDATE runs SET counts_json = ? WHERE id = ?`, counts, id)
}

// EndRun closes a run.
func EndRun(id, verdict, counts string, at int64) Stmt {
	return Must(`UPDATE runs SET verdict = ?, counts_json = ?, ended_at = ? WHERE id = ? AND ended_at = 0`, verdict, counts, at, id)
}

// ExplainRun notes why a run ended early.
func ExplainRun(id, why string) Stmt { return Do(`UPDATE runs SET why = ? WHERE id = ?`, why, id) }

// Settle writes the verdict of some tests in a pane, of each once.
func Settle(run string, pane int, tests []int, verdict, why string) Stmt {
	return Stmt{`UPDATE results SET verdict = ?, why = ? WHERE run_id = ? AND pane = ? AND test IN (SELECT value FROM json_each(?)) AND verdict = ''`,
		[]any{verdict, why, run, pane, JSON(tests)}, int64(len(tests))}
}

// SettleRest writes a verdict for every test of a run that has none.
func SettleRest(run, verdict, why string) Stmt {
	return Do(`UPDATE results SET verdict = ?, why = ? WHERE run_id = ? AND verdict = ''`, verdict, why, run)
}

// Result is a row of results.
type Result struct {
	RunID   string `db:"run_id"`
	Pane    int    `db:"pane"`
	Test    int    `db:"test"`
	Verdict string `db:"verdict"`
	Why     string `db:"why"`
}

// Attempt is a row of attempts.
type Attempt struct {
	ID        string `db:"id"`
	RunID     string `db:"run_id"`
	Pane      int    `db:"pane"`
	Test      int    `db:"test"`
	Number    int    `db:"number"`
	Fence     int64  `db:"fence"`
	Agent     string `db:"agent"`
	Verdict   string `db:"verdict"`
	Message   string `db:"message"`
	StartedAt int64  `db:"started_at"`
	TookMS    int64  `db:"took_ms"`
	Detail    string `db:"detail_json"`
}

// File is a row of files.
type File struct {
	AttemptID string `db:"attempt_id"`
	Name      string `db:"name"`
	Kind      string `db:"kind"`
	Media     string `db:"media"`
	Hash      string `db:"hash"`
	Size      int64  `db:"size"`
}

// AddAttempt writes an attempt and its files.
func AddAttempt(a Attempt, files []File) []Stmt {
	batch := []Stmt{Must(`INSERT INTO attempts (id, run_id, pane, test, number, fence, agent, verdict, message, started_at, took_ms, detail_json)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		a.ID, a.RunID, a.Pane, a.Test, a.Number, a.Fence, a.Agent, a.Verdict, a.Message, a.StartedAt, a.TookMS, a.Detail)}
	for _, f := range files {
		f.AttemptID = a.ID
		batch = append(batch, AddFile(f))
	}
	return batch
}

// Amend replaces what an attempt says of itself.
func Amend(attempt, detail string) Stmt {
	return Must(`UPDATE attempts SET detail_json = ? WHERE id = ?`, detail, attempt)
}

// AddFile writes a file of an attempt.
func AddFile(f File) Stmt {
	return Must(`INSERT INTO files (attempt_id, name, kind, media, hash, size) VALUES (?, ?, ?, ?, ?, ?)`, f.AttemptID, f.Name, f.Kind, f.Media, f.Hash, f.Size)
}

// Lease is a row of leases.
type Lease struct {
	Fence     int64  `db:"fence"`
	RunID     string `db:"run_id"`
	Pane      int    `db:"pane"`
	Agent     string `db:"agent"`
	Tests     string `db:"tests_json"`
	GrantedAt int64  `db:"granted_at"`
	EndedAt   int64  `db:"ended_at"`
	Why       string `db:"why"`
}

// AddLease writes a granted lease.
func AddLease(l Lease) Stmt {
	return Must(`INSERT INTO leases (fence, run_id, pane, agent, tests_json, granted_at) VALUES (?, ?, ?, ?, ?, ?)`,
		l.Fence, l.RunID, l.Pane, l.Agent, l.Tests, l.GrantedAt)
}

// EndLease closes a lease that is still open.
func EndLease(fence, at int64, why string) Stmt {
	return Do(`UPDATE leases SET ended_at = ?, why = ? WHERE fence = ? AND ended_at = 0`, at, why, fence)
}

// LastNumbers are the highest run number and lease fence ever used.
func (s *Store) LastNumbers(ctx context.Context) (run int, fence int64, err error) {
	err = s.read.QueryRowxContext(ctx, `SELECT COALESCE((SELECT MAX(number) FROM runs), 0), COALESCE((SELECT MAX(fence) FROM leases), 0)`).Scan(&run, &fence)
	return
}

// RunFilter narrows a list of runs. Empty fields do not.
type RunFilter struct {
	Project, Suite, Matrix, Verdict, By string
	State                               string // open or ended
	Text                                string // in suite, matrix, environment, project or person
	Before                              int    // numbers below this one
	Limit                               int
}

// Runs lists runs, newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) (rs []Run, err error) {
	where, args := []string{"1"}, []any{}
	add := func(ok bool, clause string, v ...any) {
		if ok {
			where, args = append(where, clause), append(args, v...)
		}
	}
	add(f.Project != "", "project = ?", f.Project)
	add(f.Suite != "", "suite = ?", f.Suite)
	add(f.Matrix != "", "matrix = ?", f.Matrix)
	add(f.Verdict != "", "verdict = ?", f.Verdict)
	add(f.By != "", "by_name = ?", f.By)
	add(f.State == "open", "ended_at = 0")
	add(f.State == "ended", "ended_at > 0")
	like := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Text) + "%"
	add(f.Text != "", `(project || ' ' || suite || ' ' || matrix || ' ' || environment || ' ' || by_name || ' #' || number) LIKE ? ESCAPE '\'`, like)
	add(f.Before > 0, "number < ?", f.Before)
	err = s.read.SelectContext(ctx, &rs, `SELECT * FROM runs WHERE `+strings.Join(where, " AND ")+` ORDER BY number DESC LIMIT ?`, append(args, f.Limit)...)
	return
}

// RunByNumber finds a run.
func (s *Store) RunByNumber(ctx context.Context, number int) (r Run, err error) {
	err = found(s.read.GetContext(ctx, &r, `SELECT * FROM runs WHERE number = ?`, number))
	return
}

// PaneCount is how many tests of a pane have a verdict.
type PaneCount struct {
	RunID   string `db:"run_id"`
	Index   int    `db:"idx"`
	Label   string `db:"label"`
	Key     string `db:"key"`
	Verdict string `db:"verdict"`
	Count   int    `db:"n"`
}

// PaneCounts counts the verdicts of each pane of some runs.
func (s *Store) PaneCounts(ctx context.Context, runs []string) (cs []PaneCount, err error) {
	if len(runs) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT p.run_id, p.idx, p.label, p.key, r.verdict, COUNT(*) AS n FROM panes p
		JOIN results r ON r.run_id = p.run_id AND r.pane = p.idx WHERE p.run_id IN (?)
		GROUP BY p.run_id, p.idx, r.verdict ORDER BY p.run_id, p.idx`, runs)
	if err != nil {
		return nil, err
	}
	err = s.read.SelectContext(ctx, &cs, query, args...)
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
	Results  []Result
	Attempts []Attempt // without Detail
	Leases   []Lease   // open ones
}

// WholeRun reads the parts of a run.
func (s *Store) WholeRun(ctx context.Context, id string) (w Whole, err error) {
	for _, q := range []struct {
		into  any
		query string
	}{
		{&w.Panes, `SELECT * FROM panes WHERE run_id = ? ORDER BY idx`},
		{&w.Tests, `SELECT * FROM tests WHERE run_id = ? ORDER BY idx`},
		{&w.Results, `SELECT * FROM results WHERE run_id = ? ORDER BY pane, test`},
		{&w.Attempts, `SELECT id, run_id, pane, test, number, fence, agent, verdict, message, started_at, took_ms, '' AS detail_json
			FROM attempts WHERE run_id = ? ORDER BY pane, test, number`},
		{&w.Leases, `SELECT * FROM leases WHERE run_id = ? AND ended_at = 0 ORDER BY fence`},
	} {
		if err = s.read.SelectContext(ctx, q.into, q.query, id); err != nil {
			return w, fmt.Errorf("read run %s: %w", id, err)
		}
	}
	return w, nil
}

// AttemptsOf lists the attempts of one test of a run with their details, in
// every pane.
func (s *Store) AttemptsOf(ctx context.Context, run string, test int) (as []Attempt, err error) {
	err = s.read.SelectContext(ctx, &as, `SELECT * FROM attempts WHERE run_id = ? AND test = ? ORDER BY pane, number`, run, test)
	return
}

// FilesOf lists the files of attempts by name.
func (s *Store) FilesOf(ctx context.Context, attempts []string) (fs []File, err error) {
	if len(attempts) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT * FROM files WHERE attempt_id IN (?) ORDER BY attempt_id, name`, attempts)
	if err != nil {
		return nil, err
	}
	err = s.read.SelectContext(ctx, &fs, query, args...)
	return
}

// RunFile is a file with the place of its attempt.
type RunFile struct {
	File
	Pane   int `db:"pane"`
	Test   int `db:"test"`
	Number int `db:"number"`
}

// FilesOfRun lists the files of a whole run; kind "" means every kind.
func (s *Store) FilesOfRun(ctx context.Context, run, kind string) (fs []RunFile, err error) {
	err = s.read.SelectContext(ctx, &fs, `SELECT f.*, a.pane, a.test, a.number FROM files f JOIN attempts a ON a.id = f.attempt_id
		WHERE a.run_id = ? AND (? = '' OR f.kind = ?) ORDER BY a.pane, a.test, a.number, f.name`, run, kind, kind)
	return
}

// FileOf finds one file of an attempt.
func (s *Store) FileOf(ctx context.Context, attempt, name string) (f File, err error) {
	err = found(s.read.GetContext(ctx, &f, `SELECT * FROM files WHERE attempt_id = ? AND name = ?`, attempt, name))
	return
}
