package store

import (
	"context"
	"crypto/sha256"

	"github.com/jmoiron/sqlx"
)

// Attempt is a row of attempts.
type Attempt struct {
	ID        string `db:"id"`
	Run       int    `db:"run"`
	Pane      int    `db:"pane"`
	Test      int    `db:"test"`
	Number    int    `db:"number"`
	Sessions  int    `db:"sessions"`
	Fence     int64  `db:"fence"`
	Agent     string `db:"agent"`
	Verdict   string `db:"verdict"`
	Message   string `db:"message"`
	StartedAt int64  `db:"started_at"`
	TookMS    int64  `db:"took_ms"`
	OpenedMS  int64  `db:"opened_ms"`
	RanOn     string `db:"ran_on"` // browser, version, system and device, as JSON
	Detail
}

// Detail is what an attempt says in detail: what is shared with others, twice,
// and what is its own. The store does not look inside.
type Detail struct {
	Steps []byte `db:"steps"`
	Setup []byte `db:"setup"`
	Body  []byte `db:"body"`
}

const attemptHead = `uuid(a.id) AS id, a.run, a.pane, a.test, a.number, a.sessions, a.fence, x.body AS agent, verdict(a.verdict) AS verdict,
	COALESCE(a.message, '') AS message, a.started_at, a.took_ms, a.opened_ms`

const attemptsOf = `SELECT ` + attemptHead + ` FROM attempts a JOIN texts x ON x.id = a.agent`

const attemptsInDetail = `SELECT ` + attemptHead + `, o.body AS ran_on, s.body AS steps, u.body AS setup, d.body AS body
	FROM attempts a JOIN texts x ON x.id = a.agent JOIN texts o ON o.id = a.ran_on
	JOIN details d ON d.run = a.run AND d.pane = a.pane AND d.test = a.test AND d.number = a.number
	LEFT JOIN shared s ON s.id = d.steps LEFT JOIN shared u ON u.id = d.setup`

// AddAttempt writes an attempt and its files.
func AddAttempt(a Attempt, files []File) []Stmt {
	batch := []Stmt{say(a.Agent), say(a.RanOn),
		Must(`INSERT INTO attempts (run, pane, test, number, id, sessions, fence, agent, verdict, started_at, took_ms, opened_ms, ran_on, message)
		VALUES (?, ?, ?, ?, ?, ?, ?, `+said+`, ?, ?, ?, ?, `+said+`, NULLIF(?, ''))`,
			a.Run, a.Pane, a.Test, a.Number, short(a.ID), a.Sessions, a.Fence, a.Agent, code(a.Verdict), a.StartedAt, a.TookMS,
			a.OpenedMS, a.RanOn, a.Message),
		Must(`INSERT INTO details (run, pane, test, number, body) VALUES (?, ?, ?, ?, ?)`, a.Run, a.Pane, a.Test, a.Number, a.Body)}
	batch = append(batch, share(a.ID, a.Detail)...)
	for _, f := range files {
		f.Attempt = a.ID
		batch = append(batch, AddFile(f))
	}
	return batch
}

const placeOf = `(run, pane, test, number) = (SELECT run, pane, test, number FROM attempts WHERE id = ?)`

// share writes what an attempt shares with others.
func share(attempt string, d Detail) (batch []Stmt) {
	for column, body := range map[string][]byte{"steps": d.Steps, "setup": d.Setup} {
		if body != nil {
			sum := sha256.Sum256(body)
			batch = append(batch, Do(`INSERT OR IGNORE INTO shared (hash, body) VALUES (?, ?)`, sum[:], body),
				Must(`UPDATE details SET `+column+` = (SELECT id FROM shared WHERE hash = ?) WHERE `+placeOf, sum[:], short(attempt)))
		}
	}
	return batch
}

// Amend replaces what an attempt says in detail.
func Amend(attempt string, d Detail) []Stmt {
	return append([]Stmt{Must(`UPDATE details SET steps = NULL, setup = NULL, body = ? WHERE `+placeOf, d.Body, short(attempt))},
		share(attempt, d)...)
}

// AttemptsOf lists the attempts of one test of a run in detail, in every pane.
func (s *Store) AttemptsOf(ctx context.Context, run, test int) (as []Attempt, err error) {
	err = s.read.SelectContext(ctx, &as, attemptsInDetail+` WHERE a.run = ? AND a.test = ? ORDER BY a.pane, a.number`, run, test)
	return
}

// AttemptsIn lists the attempts of one test of a run in one pane.
func (s *Store) AttemptsIn(ctx context.Context, run, pane, test int) (as []Attempt, err error) {
	err = s.read.SelectContext(ctx, &as, attemptsOf+` WHERE a.run = ? AND a.pane = ? AND a.test = ? ORDER BY a.number`, run, pane, test)
	return
}

// StepsIn is an attempt that passed, with what its steps took.
type StepsIn struct {
	Run   int    `db:"run"`
	Pane  int    `db:"pane"`
	Place int    `db:"place"` // of the test in its run
	Test  string `db:"test"`
	Label string `db:"label"`
	Detail
}

// StepsOf lists the first attempts of some tests of a suite that passed in its newest ended
// runs, at most so many.
func (s *Store) StepsOf(ctx context.Context, project, suite string, tests []string, runs, most int) (xs []StepsIn, err error) {
	err = s.read.SelectContext(ctx, &xs, `SELECT a.run, a.pane, a.test AS place, k.name AS test, p.label,
			st.body AS steps, u.body AS setup, d.body AS body
		FROM (SELECT number FROM runs WHERE project = ? AND suite = ? AND ended_at > 0 ORDER BY number DESC LIMIT ?) r
		CROSS JOIN tests t ON t.run = r.number JOIN tests_known k ON k.id = t.known AND k.name IN (SELECT value FROM json_each(?))
		CROSS JOIN panes p ON p.run = r.number
		JOIN attempts a ON a.run = r.number AND a.pane = p.idx AND a.test = t.idx AND a.number = 1 AND a.verdict = ?
		JOIN details d ON d.run = a.run AND d.pane = a.pane AND d.test = a.test AND d.number = a.number
		LEFT JOIN shared st ON st.id = d.steps LEFT JOIN shared u ON u.id = d.setup
		ORDER BY r.number DESC LIMIT ?`, project, suite, runs, JSON(tests), code("passed"), most)
	return
}

// AttemptByID finds an attempt in detail.
func (s *Store) AttemptByID(ctx context.Context, id string) (a Attempt, err error) {
	err = found(s.read.GetContext(ctx, &a, attemptsInDetail+` WHERE a.id = ?`, short(id)))
	return
}

// Span is when an attempt ran, and in which lease.
type Span struct {
	Pane      int    `db:"pane"`
	Test      int    `db:"test"`
	Number    int    `db:"number"`
	Fence     int64  `db:"fence"`
	Agent     string `db:"agent"`
	Verdict   string `db:"verdict"`
	StartedAt int64  `db:"started_at"`
	TookMS    int64  `db:"took_ms"`
}

// Spans lists the attempts of a run in order of time.
func (s *Store) Spans(ctx context.Context, run int) (xs []Span, err error) {
	err = s.read.SelectContext(ctx, &xs, `SELECT a.pane, a.test, a.number, a.fence, x.body AS agent, verdict(a.verdict) AS verdict,
		a.started_at, a.took_ms
		FROM attempts a JOIN texts x ON x.id = a.agent WHERE a.run = ? ORDER BY a.started_at, a.id`, run)
	return
}

// LatestDurations lists what the latest attempts of the whole lab took, in
// milliseconds, those that the lab failed left out.
func (s *Store) LatestDurations(ctx context.Context, n int) (ms []int64, err error) {
	err = s.read.SelectContext(ctx, &ms, `SELECT took_ms FROM (SELECT took_ms, verdict FROM attempts ORDER BY id DESC LIMIT ?)
		WHERE verdict IN (1, 2)`, n)
	return
}

// File is a row of files.
type File struct {
	Attempt string `db:"attempt"`
	Name    string `db:"name"`
	Kind    string `db:"kind"`
	Media   string `db:"media"`
	Hash    string `db:"hash"` // SHA-256, in hexadecimal
	Size    int64  `db:"size"`
	Session int    `db:"session"` // number; 0 for none
}

const filesOf = `SELECT uuid(f.attempt) AS attempt, f.name, f.kind, f.media, lower(hex(f.hash)) AS hash, f.size, f.session FROM files f`

// AddFile writes a file of an attempt, which is on record.
func AddFile(f File) Stmt {
	return Must(`INSERT INTO files (attempt, name, session, kind, media, hash, size, project, verdict, at)
		SELECT a.id, ?, ?, ?, ?, unhex(?), ?, r.project, a.verdict, a.started_at + a.took_ms
		FROM attempts a JOIN runs r ON r.number = a.run WHERE a.id = ?`, f.Name, f.Session, f.Kind, f.Media, f.Hash, f.Size, short(f.Attempt))
}

// DropFile forgets a file of an attempt.
func DropFile(attempt, name string) Stmt {
	return Do(`DELETE FROM files WHERE attempt = ? AND name = ?`, short(attempt), name)
}

// FilesOf lists the files of attempts by name.
func (s *Store) FilesOf(ctx context.Context, attempts []string) (fs []File, err error) {
	if len(attempts) == 0 {
		return nil, nil
	}
	ids := make([]any, len(attempts))
	for i, a := range attempts {
		ids[i] = short(a)
	}
	query, args, err := sqlx.In(filesOf+` WHERE f.attempt IN (?) ORDER BY f.attempt, f.name`, ids)
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
func (s *Store) FilesOfRun(ctx context.Context, run int, kind string) (fs []RunFile, err error) {
	err = s.read.SelectContext(ctx, &fs, `SELECT uuid(f.attempt) AS attempt, f.name, f.kind, f.media, lower(hex(f.hash)) AS hash, f.size,
		f.session, a.pane, a.test, a.number
		FROM attempts a JOIN files f ON f.attempt = a.id
		WHERE a.run = ? AND (? = '' OR f.kind = ?) ORDER BY a.pane, a.test, a.number, f.name`, run, kind, kind)
	return
}

// FileOf finds one file of an attempt.
func (s *Store) FileOf(ctx context.Context, attempt, name string) (f File, err error) {
	err = found(s.read.GetContext(ctx, &f, filesOf+` WHERE f.attempt = ? AND f.name = ?`, short(attempt), name))
	return
}
