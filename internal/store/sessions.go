package store

import (
	"context"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Session is a row of sessions.
type Session struct {
	ID       string `db:"id"`
	RunID    string `db:"run_id"`
	Pane     int    `db:"pane"`
	Test     int    `db:"test"`
	Number   int    `db:"number"`
	Kind     string `db:"kind"`
	Name     string `db:"name"`
	Tags     string `db:"tags_json"`
	By       string `db:"by_name"`
	TokenID  string `db:"token_id"`
	Agent    string `db:"agent"`
	Browser  string `db:"browser"`
	Version  string `db:"version"`
	OS       string `db:"os"`
	Device   string `db:"device"`
	Asked    string `db:"asked_json"`
	Options  string `db:"options_json"`
	State    string `db:"state"`
	Verdict  string `db:"verdict"`
	Message  string `db:"message"`
	How      string `db:"how"`
	Note     string `db:"note"`
	Fence    int64  `db:"fence"`
	BiDiKey  string `db:"bidi_key"`
	QueuedAt int64  `db:"queued_at"`
	OpenedAt int64  `db:"opened_at"`
	EndedAt  int64  `db:"ended_at"`
}

// AddSession writes a session.
func AddSession(x Session) Stmt {
	return Must(`INSERT INTO sessions (id, run_id, pane, test, number, kind, name, tags_json, by_name, token_id, agent, browser, version, os, device,
		asked_json, options_json, state, verdict, message, how, bidi_key, queued_at, opened_at, ended_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		x.ID, x.RunID, x.Pane, x.Test, x.Number, x.Kind, x.Name, x.Tags, x.By, x.TokenID, x.Agent, x.Browser, x.Version, x.OS, x.Device,
		x.Asked, x.Options, x.State, x.Verdict, x.Message, x.How, x.BiDiKey, x.QueuedAt, x.OpenedAt, x.EndedAt)
}

// LeaseSession notes which lease a session waits to be opened under.
func LeaseSession(id string, fence int64, agent string) Stmt {
	return Do(`UPDATE sessions SET fence = ?, agent = ? WHERE id = ?`, fence, agent, id)
}

// OpenSession notes that a session is open, and on what.
func OpenSession(x Session) Stmt {
	return Do(`UPDATE sessions SET state = 'open', agent = ?, browser = ?, version = ?, os = ?, bidi_key = ?, opened_at = ? WHERE id = ?`,
		x.Agent, x.Browser, x.Version, x.OS, x.BiDiKey, x.OpenedAt, x.ID)
}

// EndSession notes how a session ended. It keeps what was noted first.
func EndSession(x Session) Stmt {
	return Do(`UPDATE sessions SET state = 'ended', agent = ?, verdict = ?, message = ?, how = ?, ended_at = ?, bidi_key = '' WHERE id = ? AND state != 'ended'`,
		x.Agent, x.Verdict, x.Message, x.How, x.EndedAt, x.ID)
}

// JudgeSession gives an ended session and its attempt another verdict.
func JudgeSession(id, verdict, message string) []Stmt {
	return []Stmt{
		Must(`UPDATE sessions SET verdict = ?, message = ? WHERE id = ? AND state = 'ended'`, verdict, message, id),
		Do(`UPDATE attempts SET verdict = ?, message = ? WHERE id = ?`, verdict, message, id),
	}
}

// NoteSession keeps somebody's note on a session.
func NoteSession(id, note string) Stmt {
	return Must(`UPDATE sessions SET note = ? WHERE id = ?`, note, id)
}

// AddCell adds a test to a pane of a run that grows; pane and test are made
// where they are new.
func AddCell(p Pane, t Test) []Stmt {
	return []Stmt{
		Do(`INSERT OR IGNORE INTO panes (run_id, idx, key, label, values_json, needs_json) VALUES (?, ?, ?, ?, ?, ?)`, p.RunID, p.Index, p.Key, p.Label, p.Values, p.Needs),
		Do(`INSERT OR IGNORE INTO tests (run_id, idx, name, file, tags_json, locks_json) VALUES (?, ?, ?, ?, ?, ?)`, t.RunID, t.Index, t.Name, t.File, t.Tags, t.Locks),
		Do(`INSERT OR IGNORE INTO results (run_id, pane, test) VALUES (?, ?, ?)`, p.RunID, p.Index, t.Index),
	}
}

// Regard writes the verdict of a test in a pane of a run that grows, whatever it
// was before.
func Regard(run string, pane, test int, verdict, why string) Stmt {
	return Do(`UPDATE results SET verdict = ?, why = ? WHERE run_id = ? AND pane = ? AND test = ?`, verdict, why, run, pane, test)
}

// ReopenRun takes the end of a run back.
func ReopenRun(id string) Stmt {
	return Do(`UPDATE runs SET ended_at = 0, verdict = '', why = '' WHERE id = ?`, id)
}

// RunByName finds the newest run of sessions with a name.
func (s *Store) RunByName(ctx context.Context, project, name string) (r Run, err error) {
	err = found(s.read.GetContext(ctx, &r, `SELECT * FROM runs WHERE kind = 'remote' AND project = ? AND suite = ? ORDER BY number DESC LIMIT 1`, project, name))
	return
}

// SessionFilter narrows a list of sessions. Empty fields do not.
type SessionFilter struct {
	Text, Test, Tag, Browser, Device, Verdict, State, Project, Kind, Agent string
	Run                                                                    int
	Since, Until                                                           int64  // milliseconds since 1970, of the time it was asked for
	Before                                                                 string // ids that come before this one
	Limit                                                                  int
}

// SessionRow is a session with what a list shows of its run.
type SessionRow struct {
	Session
	RunNumber int    `db:"run_number"`
	RunName   string `db:"run_name"`
	Project   string `db:"project"`
	TestName  string `db:"test_name"`
	Label     string `db:"label"`
}

const sessionRows = `SELECT s.*, r.number AS run_number, r.suite AS run_name, r.project AS project, t.name AS test_name, p.label AS label
	FROM sessions s JOIN runs r ON r.id = s.run_id JOIN tests t ON t.run_id = s.run_id AND t.idx = s.test JOIN panes p ON p.run_id = s.run_id AND p.idx = s.pane`

// Sessions lists sessions, newest first.
func (s *Store) Sessions(ctx context.Context, f SessionFilter) (rows []SessionRow, err error) {
	where, args := []string{"1"}, []any{}
	add := func(ok bool, clause string, v ...any) {
		if ok {
			where, args = append(where, clause), append(args, v...)
		}
	}
	like := func(text string) string {
		return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + "%"
	}
	add(f.Text != "", `(s.name || ' ' || t.name || ' ' || r.suite || ' ' || r.project || ' ' || p.label || ' ' || s.by_name || ' ' || s.message || ' ' || s.how || ' ' || s.note || ' #' || r.number) LIKE ? ESCAPE '\'`, like(f.Text))
	add(f.Test != "", `t.name LIKE ? ESCAPE '\'`, like(f.Test))
	add(f.Tag != "", `EXISTS (SELECT 1 FROM json_each(s.tags_json) WHERE value = ?)`, f.Tag)
	add(f.Browser != "", "s.browser = ?", f.Browser)
	add(f.Device != "", "s.device = ?", f.Device)
	add(f.Verdict != "", "s.verdict = ?", f.Verdict)
	add(f.State != "", "s.state = ?", f.State)
	add(f.Project != "", "r.project = ?", f.Project)
	add(f.Kind != "", "s.kind = ?", f.Kind)
	add(f.Agent != "", "s.agent = ?", f.Agent)
	add(f.Run > 0, "r.number = ?", f.Run)
	add(f.Since > 0, "s.queued_at >= ?", f.Since)
	add(f.Until > 0, "s.queued_at < ?", f.Until)
	add(f.Before != "", "(s.queued_at, s.id) < (SELECT queued_at, id FROM sessions WHERE id = ?)", f.Before)
	err = s.read.SelectContext(ctx, &rows, sessionRows+` WHERE `+strings.Join(where, " AND ")+` ORDER BY s.queued_at DESC, s.id DESC LIMIT ?`, append(args, f.Limit)...)
	return
}

// SessionByID finds a session.
func (s *Store) SessionByID(ctx context.Context, id string) (x SessionRow, err error) {
	err = found(s.read.GetContext(ctx, &x, sessionRows+` WHERE s.id = ?`, id))
	return
}

// LiveSessions are the sessions that have not ended.
func (s *Store) LiveSessions(ctx context.Context) (rows []Session, err error) {
	err = s.read.SelectContext(ctx, &rows, `SELECT * FROM sessions WHERE state != 'ended' ORDER BY queued_at, id`)
	return
}

// AttemptByID finds an attempt with its details.
func (s *Store) AttemptByID(ctx context.Context, id string) (a Attempt, err error) {
	err = found(s.read.GetContext(ctx, &a, `SELECT * FROM attempts WHERE id = ?`, id))
	return
}

// Project is a row of projects: what was settled for one.
type Project struct {
	Name   string `db:"name"`
	Record string `db:"record_json"`
	Keep   string `db:"keep_json"`
}

// SaveProject writes what was settled for a project.
func SaveProject(p Project) Stmt {
	return Do(`INSERT INTO projects (name, record_json, keep_json) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET record_json = excluded.record_json, keep_json = excluded.keep_json`, p.Name, p.Record, p.Keep)
}

// ProjectByName finds what was settled for a project.
func (s *Store) ProjectByName(ctx context.Context, name string) (p Project, err error) {
	err = found(s.read.GetContext(ctx, &p, `SELECT * FROM projects WHERE name = ?`, name))
	return
}

// ReviseRun gives an ended run another verdict and other counts.
func ReviseRun(id, verdict, counts string) Stmt {
	return Do(`UPDATE runs SET verdict = ?, counts_json = ? WHERE id = ? AND ended_at > 0`, verdict, counts, id)
}

// Projects lists what was settled for projects.
func (s *Store) Projects(ctx context.Context) (ps []Project, err error) {
	err = s.read.SelectContext(ctx, &ps, `SELECT * FROM projects ORDER BY name`)
	return
}

// KeptFile is a recorded file with what its keeping depends on.
type KeptFile struct {
	File
	Project string `db:"project"`
	Verdict string `db:"verdict"`
	At      int64  `db:"at"`
}

// KeptFiles lists every file of attempts that have ended before a time.
func (s *Store) KeptFiles(ctx context.Context, before int64) (fs []KeptFile, err error) {
	err = s.read.SelectContext(ctx, &fs, `SELECT f.*, r.project, a.verdict, a.started_at + a.took_ms AS at FROM files f
		JOIN attempts a ON a.id = f.attempt_id JOIN runs r ON r.id = a.run_id WHERE a.started_at + a.took_ms < ?`, before)
	return
}

// DropFile forgets a file of an attempt.
func DropFile(attempt, name string) Stmt {
	return Do(`DELETE FROM files WHERE attempt_id = ? AND name = ?`, attempt, name)
}

// HashesInUse reports which of some contents a file, a run or a preset still
// refers to.
func (s *Store) HashesInUse(ctx context.Context, hashes []string) (used []string, err error) {
	if len(hashes) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT hash FROM files WHERE hash IN (?) UNION SELECT bundle FROM runs WHERE bundle IN (?)
		UNION SELECT json_extract(request_json, '$.bundle') FROM presets WHERE json_extract(request_json, '$.bundle') IN (?)`, hashes, hashes, hashes)
	if err != nil {
		return nil, err
	}
	err = s.read.SelectContext(ctx, &used, query, args...)
	return
}
