package store

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"slices"

	"parallelpane/internal/core/attempt"
)

// Session is a row of sessions, or the first session of a script's attempt.
type Session struct {
	ID       string `db:"id"`
	Run      int    `db:"run"`
	Pane     int    `db:"pane"`
	Test     int    `db:"test"`
	Number   int    `db:"number"`
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
	Fence    int64  `db:"fence"`
	JudgedBy string `db:"judged_by"`
	BiDiKey  string `db:"bidi_key"`
	QueuedAt int64  `db:"queued_at"`
	OpenedAt int64  `db:"opened_at"`
	EndedAt  int64  `db:"ended_at"`
}

// AddSession writes a session of somebody else's runner.
func AddSession(x Session) Stmt {
	return Must(`INSERT INTO sessions (id, run, pane, test, number, name, tags_json, by_name, token_id, agent, browser, version, os, device,
		asked_json, options_json, state, verdict, message, how, bidi_key, queued_at, opened_at, ended_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		x.ID, x.Run, x.Pane, x.Test, x.Number, x.Name, x.Tags, x.By, x.TokenID, x.Agent, x.Browser, x.Version, x.OS, x.Device,
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
	return Do(`UPDATE sessions SET state = 'ended', agent = ?, verdict = ?, message = ?, how = ?, ended_at = ?, bidi_key = '' WHERE id = ?
		AND state != 'ended'`,
		x.Agent, x.Verdict, x.Message, x.How, x.EndedAt, x.ID)
}

// JudgeSession gives an ended session, its attempt and its files another verdict.
func JudgeSession(id, verdict, message, by string) []Stmt {
	return []Stmt{
		Must(`UPDATE sessions SET verdict = ?, message = ?, judged_by = ? WHERE id = ? AND state = 'ended'`, verdict, message, by, id),
		Do(`UPDATE attempts SET verdict = ?, message = NULLIF(?, '') WHERE id = ?`, code(verdict), message, short(attempt.Of(id))),
		Do(`UPDATE files SET verdict = ? WHERE attempt = ?`, code(verdict), short(attempt.Of(id))),
	}
}

// AbandonSessions ends the sessions of a run that is set aside.
func AbandonSessions(run int, why string, at int64) Stmt {
	return Do(`UPDATE sessions SET state = 'ended', verdict = 'lab-fault', message = ?2, how = ?2, ended_at = ?3
		WHERE run = ?1 AND state != 'ended'`, run, why, at)
}

// AbandonSession ends a session that is set aside.
func AbandonSession(id, why string, at int64) Stmt {
	return Do(`UPDATE sessions SET state = 'ended', verdict = 'lab-fault', message = ?2, how = ?2, ended_at = ?3
		WHERE id = ?1 AND state != 'ended'`, id, why, at)
}

// SessionNote reads the note at a session.
func (s *Store) SessionNote(ctx context.Context, id string) (body, by string, err error) {
	err = found(s.read.QueryRowContext(ctx, `SELECT body, by_name FROM notes WHERE session = ?`, id).Scan(&body, &by))
	return
}

// NoteSession keeps somebody's note on a session.
func NoteSession(id, note, by string, at int64) Stmt {
	return Must(`INSERT INTO notes (session, body, by_name, at) SELECT ?, ?, ?, ? WHERE EXISTS (SELECT 1 FROM sessions WHERE id = ?) 
		OR EXISTS (SELECT 1 FROM attempts WHERE id = ?)
		ON CONFLICT DO UPDATE SET body = excluded.body, by_name = excluded.by_name,
			at = excluded.at`, id, note, by, at, id, short(attempt.Of(id)))
}

// SessionFilter narrows a list of sessions. Empty fields do not.
type SessionFilter struct {
	Text, Test, Tag, Browser, Device, Verdict, State, Project, Kind, Agent string
	Run                                                                    int
	Since, Until                                                           int64  // milliseconds since 1970, of the time it was asked for
	Before                                                                 string // ids that come before this one
	Limit                                                                  int
	Among                                                                  []string // projects; nil means every one
}

// SessionRow is a session with what a list shows of its run.
type SessionRow struct {
	Session
	Kind     string `db:"kind"`
	RunID    string `db:"run_id"`
	RunName  string `db:"run_name"`
	Project  string `db:"project"`
	TestName string `db:"test_name"`
	Label    string `db:"label"`
	Note     string `db:"note"`
	NoteBy   string `db:"note_by"`
	NoteAt   int64  `db:"note_at"`
}

// Both lists have the same columns. A script's session was asked for when its
// attempt was named, which its id tells.
const (
	ofRunners = `SELECT s.*, 'remote' AS kind, r.id AS run_id, r.suite AS run_name, r.project, k.name AS test_name, p.label,
		COALESCE(n.body, '') AS note, COALESCE(n.by_name, '') AS note_by, COALESCE(n.at, 0) AS note_at
		FROM sessions s JOIN runs r ON r.number = s.run JOIN tests t ON t.run = s.run AND t.idx = s.test JOIN tests_known k ON k.id = t.known
		JOIN panes p ON p.run = s.run AND p.idx = s.pane LEFT JOIN notes n ON n.session = s.id`
	ofScripts = `SELECT session(a.id) AS id, a.run, a.pane, a.test, a.number, k.name, t.tags_json, r.by_name, '' AS token_id, x.body AS agent,
		o.body ->> 'browser' AS browser, o.body ->> 'version' AS version, o.body ->> 'os' AS os, o.body ->> 'device' AS device,
		'{}' AS asked_json, '{}' AS options_json, 'ended' AS state, verdict(a.verdict) AS verdict, COALESCE(a.message, '') AS message,
		'its script ended' AS how, a.fence, '' AS bidi_key, asked_at(a.id) AS queued_at,
		a.started_at + a.opened_ms AS opened_at, a.started_at + a.took_ms AS ended_at,
		'script' AS kind, r.id AS run_id, r.suite AS run_name, r.project, k.name AS test_name, p.label, COALESCE(n.body, '') AS note,
		COALESCE(n.by_name, '') AS note_by, COALESCE(n.at, 0) AS note_at, '' AS judged_by
		FROM attempts a JOIN runs r ON r.number = a.run AND r.kind = 'script'
		JOIN tests t ON t.run = a.run AND t.idx = a.test JOIN tests_known k ON k.id = t.known
		JOIN panes p ON p.run = a.run AND p.idx = a.pane JOIN texts x ON x.id = a.agent JOIN texts o ON o.id = a.ran_on
		LEFT JOIN notes n ON n.session = session(a.id)`
)

// Sessions lists sessions, those that were asked for last first.
func (s *Store) Sessions(ctx context.Context, f SessionFilter) (rows []SessionRow, err error) {
	if f.Kind != "script" {
		rows, err = s.runnersSessions(ctx, f)
	}
	if err == nil && f.Kind != "remote" && (f.State == "" || f.State == "ended") {
		var more []SessionRow
		more, err = s.scriptsSessions(ctx, f)
		rows = append(rows, more...)
	}
	slices.SortFunc(rows, func(a, b SessionRow) int { return cmp.Compare(b.ID, a.ID) })
	return rows[:min(len(rows), f.Limit)], err
}

func (s *Store) runnersSessions(ctx context.Context, f SessionFilter) (rows []SessionRow, err error) {
	w := &where{}
	w.has(`(s.name || ' ' || k.name || ' ' || r.suite || ' ' || r.project || ' ' || p.label || ' ' || s.by_name || ' ' || s.message
		|| ' ' || s.how || ' ' || COALESCE(n.body, '') || ' #' || r.number)`, f.Text)
	w.has("k.name", f.Test)
	w.add(f.Tag != "", `EXISTS (SELECT 1 FROM json_each(s.tags_json) WHERE value = ?)`, f.Tag)
	w.add(f.Browser != "", "s.browser = ?", f.Browser)
	w.add(f.Device != "", "s.device = ?", f.Device)
	w.add(f.Verdict != "", "s.verdict = ?", f.Verdict)
	w.add(f.State != "", "s.state = ?", f.State)
	w.add(f.Project != "", "r.project = ?", f.Project)
	w.among("r.project", f.Among)
	w.add(f.Agent != "", "s.agent = ?", f.Agent)
	w.add(f.Run > 0, "s.run = ?", f.Run)
	w.add(f.Since > 0, "s.queued_at >= ?", f.Since)
	w.add(f.Until > 0, "s.queued_at < ?", f.Until)
	w.add(f.Before != "", "s.id < ?", f.Before)
	err = s.read.SelectContext(ctx, &rows, ofRunners+` WHERE `+w.String()+` ORDER BY s.id DESC LIMIT ?`, append(w.args, f.Limit)...)
	return
}

func (s *Store) scriptsSessions(ctx context.Context, f SessionFilter) (rows []SessionRow, err error) {
	w := &where{}
	w.add(true, "a.sessions > 0")
	w.has(`(k.name || ' ' || r.suite || ' ' || r.project || ' ' || p.label || ' ' || r.by_name || ' ' || COALESCE(a.message, '')
		|| ' ' || COALESCE(n.body, '') || ' #' || r.number)`, f.Text)
	w.has("k.name", f.Test)
	w.add(f.Tag != "", `EXISTS (SELECT 1 FROM json_each(t.tags_json) WHERE value = ?)`, f.Tag)
	w.add(f.Browser != "", "o.body ->> 'browser' = ?", f.Browser)
	w.add(f.Device != "", "o.body ->> 'device' = ?", f.Device)
	w.add(f.Verdict != "", "a.verdict = ?", code(f.Verdict))
	w.add(f.Project != "", "r.project = ?", f.Project)
	w.among("r.project", f.Among)
	w.add(f.Agent != "", "x.body = ?", f.Agent)
	w.add(f.Run > 0, "a.run = ?", f.Run)
	w.add(f.Since > 0, "a.id >= ?", firstID(f.Since))
	w.add(f.Until > 0, "a.id < ?", firstID(f.Until))
	w.add(f.Before != "", "a.id < ?", short(attempt.Of(f.Before)))
	err = s.read.SelectContext(ctx, &rows, ofScripts+` WHERE `+w.String()+` ORDER BY a.id DESC LIMIT ?`, append(w.args, f.Limit)...)
	return
}

// firstID is where the ids begin that were made at a time in milliseconds since
// 1970 (RFC 9562, section 5.7).
func firstID(ms int64) []byte { return binary.BigEndian.AppendUint64(nil, uint64(ms))[2:] }

// SessionByID finds a session.
func (s *Store) SessionByID(ctx context.Context, id string) (x SessionRow, err error) {
	err = found(s.read.GetContext(ctx, &x, ofRunners+` WHERE s.id = ?`, id))
	if errors.Is(err, ErrNotFound) {
		err = found(s.read.GetContext(ctx, &x, ofScripts+` WHERE a.id = ? AND a.sessions >= ?`, short(attempt.Of(id)),
			max(1, attempt.NumberOf(id))))
	}
	return
}

// WhoseSession says to which project a session belongs, and to whom.
func (s *Store) WhoseSession(ctx context.Context, id string) (project, by string, err error) {
	err = found(s.read.QueryRowContext(ctx, `SELECT r.project, s.by_name FROM sessions s JOIN runs r ON r.number = s.run WHERE s.id = ?1
		UNION ALL SELECT r.project, r.by_name FROM attempts a JOIN runs r ON r.number = a.run WHERE a.id = ?2 LIMIT 1`,
		id, short(attempt.Of(id))).Scan(&project, &by))
	return
}

// ProjectOfAttempt says to which project an attempt belongs.
func (s *Store) ProjectOfAttempt(ctx context.Context, id string) (project string, err error) {
	err = found(s.read.GetContext(ctx, &project, `SELECT r.project FROM attempts a JOIN runs r ON r.number = a.run WHERE a.id = ?`,
		short(id)))
	return
}

// LiveSessions are the sessions that have not ended.
func (s *Store) LiveSessions(ctx context.Context) (rows []Session, err error) {
	err = s.read.SelectContext(ctx, &rows, `SELECT * FROM sessions WHERE state != 'ended' ORDER BY id`)
	return
}
