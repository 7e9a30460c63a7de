package main

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/binary"
	"encoding/hex"
	"flag"
	"fmt"
	"log/slog"
	mathrand "math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
)

// Two years of a lab: the service runs a suite a few times, with agents that are
// played; these runs are then copied, each with a day, a number and ids of its own,
// until there are 2,000 runs and five million attempts. The service's own triggers
// count them as they come.
const (
	yearsRuns  = 2000
	yearsTests = 125
	yearsPanes = 20
	templates  = 8
	keptFiles  = 200_000 // of the newest attempts
	dueFiles   = 4_000   // of those, whose time is over
)

var yearsDir = flag.String("years", "", "directory of the two years of records, made there if need be and kept")

func years(ctx context.Context, pane string) ([]row, error) {
	dir := *yearsDir
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "bench-"); err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir)
	}
	db := filepath.Join(dir, "data", "pane.db")
	if _, err := os.Stat(db); err != nil {
		if err := twoYears(ctx, pane, dir, db); err != nil {
			return nil, err
		}
	}
	attempts, size, err := measured(db)
	if err != nil {
		return nil, err
	}
	if err := pile(db, filepath.Join(dir, "data", "blobs")); err != nil {
		return nil, err
	}
	rows := []row{{fmt.Sprintf("records of %d runs and %.1f million attempts of ten steps: bytes an attempt", yearsRuns,
		float64(attempts)/1e6), fmt.Sprint(size / attempts), "250"}}
	s, stop, err := serveIn(ctx, pane, dir)
	if err != nil {
		return nil, err
	}
	defer stop()
	bundle, err := s.grow(ctx, yearsTests, yearsPanes, 1, outcome)
	if err != nil {
		return nil, err
	}
	wide, err := s.grow(ctx, 500, 60, 2, often)
	if err != nil {
		return nil, err
	}
	var newest []struct{ Number int }
	if err := s.call(ctx, "GET", "/runs?limit=1", s.token, nil, &newest); err != nil {
		return nil, err
	}
	last := newest[0].Number
	for _, m := range []struct {
		what, method, path string
		body               any
		target             string
	}{
		{"over these: list of the 50 newest runs", "GET", "/runs?limit=50", nil, "50 ms"},
		{"the same, of one suite with a word in it", "GET", "/runs?limit=50&text=bench", nil, "–"},
		{"wall of 500 tests × 60 combinations", "GET", "/runs/-", nil, "150 ms"},
		{"preview of 125 tests × 20 combinations with two years of history", "POST", "/runs/preview",
			map[string]any{"bundle": bundle}, "100 ms"},
		{"preview of 500 tests × 60 combinations that ran once", "POST", "/runs/preview", map[string]any{"bundle": wide}, "100 ms"},
		{"causes of a run of 500 tests × 60 combinations with 5,000 failing cells", "GET", "/runs/-/causes", nil, "500 ms"},
		{"the last twenty runs of each of its cells", "GET", "/runs/-/past", nil, "200 ms"},
		{"that run against another such", "GET", fmt.Sprintf("/compare?was=%d&is=%d", last-1, last), nil, "300 ms"},
		{"trends by browser over 90 days", "GET", "/trends?by=browser&days=90", nil, "500 ms"},
		{"trends by test over 90 days", "GET", "/trends?by=test&days=90", nil, "500 ms"},
		{"how the lab was used over 90 days", "GET", "/trends/lab?days=90", nil, "500 ms"},
		{"unsteady tests over 30 runs of each suite", "GET", "/unsteady", nil, "–"},
		{"what is slow over 30 runs of each suite", "GET", "/slow", nil, "–"},
		{"overview", "GET", "/overview", nil, "–"},
		{"list of the 50 newest of the sessions", "GET", "/sessions?limit=50", nil, "–"},
	} {
		var took []time.Duration
		m.path = strings.ReplaceAll(m.path, "/-", fmt.Sprintf("/%d", last))
		for range 11 {
			began := time.Now()
			if err := s.call(ctx, m.method, m.path, s.token, m.body, nil); err != nil {
				return nil, err
			}
			took = append(took, time.Since(began))
		}
		rows = append(rows, row{m.what + " (median of 11)", fmt.Sprintf("%.0f ms", float64(median(took).Microseconds())/1000), m.target})
	}
	seen, err := s.drawn(ctx, pane, last, wide)
	if err != nil {
		return nil, err
	}
	rows = append(rows, seen...)
	held, swept, err := s.sweepUnder(ctx, bundle)
	if err != nil {
		return nil, err
	}
	return append(rows, row{fmt.Sprintf("a sweep of %d of %d files while results come in: the longest that one took", swept, keptFiles),
		fmt.Sprintf("%.0f ms", float64(held.Microseconds())/1000), "50 ms"}), nil
}

// twoYears makes the records.
func twoYears(ctx context.Context, pane, dir, db string) error {
	s, stop, err := serveIn(ctx, pane, dir)
	if err != nil {
		return err
	}
	_, err = s.grow(ctx, yearsTests, yearsPanes, templates, outcome)
	stop()
	if err != nil {
		return err
	}
	began := time.Now()
	if err := multiply(db); err != nil {
		return err
	}
	fmt.Printf("two years of records made in %s\n", time.Since(began).Round(time.Second))
	return nil
}

// grow runs a suite of so many tests on so many combinations a few times, and says
// what bundle it was.
func (s *served) grow(ctx context.Context, tests, panes, times int, what func(link.Slice, link.SliceTest) link.Result) (
	bundle string, err error) {
	raw, hash, err := wideRun(tests, panes)
	if err != nil {
		return "", err
	}
	if err := s.call(ctx, "PUT", "/bundles/"+hash, s.token, raw, nil); err != nil {
		return "", err
	}
	work, leave, err := s.hands(ctx, what)
	if err != nil {
		return "", err
	}
	defer leave()
	for range times {
		var run struct{ Number int }
		if err := s.call(ctx, "POST", "/runs", s.token, map[string]any{"bundle": hash, "retries": 1}, &run); err != nil {
			return "", err
		}
		ended, cancel := context.WithCancel(ctx)
		var senders sync.WaitGroup
		for range 16 {
			senders.Go(func() {
				for {
					select {
					case r := <-work:
						_ = s.call(ctx, "POST", "/agent/results", s.of(r), r, nil)
					case <-ended.Done():
						return
					}
				}
			})
		}
		for state := ""; state != "ended"; time.Sleep(200 * time.Millisecond) {
			var all []struct{ State string }
			if err := s.call(ctx, "GET", "/runs?limit=1", s.token, nil, &all); err != nil {
				cancel()
				return "", err
			}
			state = all[0].State
		}
		cancel()
		senders.Wait()
	}
	return hash, nil
}

// outcome is an attempt of ten steps of which one in thirty fails.
func outcome(slice link.Slice, t link.SliceTest) link.Result {
	r := link.Result{Verdict: verdict.Passed, Sessions: 1, StartedAt: time.Now().UnixMilli(), Detail: attempt.Detail{Browser: "kestrel",
		Version: "12.1", StartMS: 200 + mathrand.Int64N(900)}}
	at := r.Detail.StartMS
	for i := range 10 {
		step := attempt.Step{Index: i, Title: fmt.Sprintf("%s: step %d of it", t.Name, i+1), Action: "click", State: attempt.Passed,
			Matched: fmt.Sprintf("button %q", fmt.Sprint("Berth ", i)), StartMS: at + mathrand.Int64N(3), TookMS: mathrand.Int64N(900)}
		step.At.File, step.At.Line = t.File, i+3
		at = step.StartMS + step.TookMS
		r.Detail.Steps = append(r.Detail.Steps, step)
	}
	if r.TookMS = at; mathrand.IntN(30) == 0 {
		last := &r.Detail.Steps[9]
		r.Verdict, r.Message = verdict.Failed, fmt.Sprintf("step 10: expected the page to read %q, and it did not within 6 s", "Berth held")
		last.State, last.Message = attempt.Failed, r.Message
	}
	return r
}

// often is an attempt of which one in six fails, in one of forty ways.
func often(slice link.Slice, t link.SliceTest) link.Result {
	r := outcome(slice, t)
	if mathrand.IntN(6) == 0 {
		last := &r.Detail.Steps[9]
		r.Verdict, r.Message = verdict.Failed, fmt.Sprintf("link %q: no element matches (waited %d ms)",
			strings.Repeat("tide ", 1+mathrand.IntN(40)), 6000+mathrand.IntN(900))
		last.State, last.Message = attempt.Failed, r.Message
	}
	return r
}

// multiply copies runs in the records until there are as many as there are to be.
func multiply(path string) error {
	sqlite.MustRegisterScalarFunction("bench_id", 1, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
		ms, _ := args[0].(int64)
		var u uuid.UUID
		_, _ = rand.Read(u[:])
		binary.BigEndian.PutUint64(u[:], uint64(ms)<<16|uint64(u[6])<<8|uint64(u[7]))
		u[6], u[8] = u[6]&0x0f|0x70, u[8]&0x3f|0x80
		u[15] = 0 // of an attempt
		return u[:], nil
	})
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)&_pragma=cache_size(-200000)")
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	var have int
	if err := db.Get(&have, `SELECT COUNT(*) FROM runs`); err != nil {
		return err
	}
	first := time.Now().AddDate(-2, 0, 0).UnixMilli()
	for n := have + 1; n <= yearsRuns; n++ {
		from, shift := n%have+1, first+int64(n)*2*365*86_400_000/yearsRuns-time.Now().UnixMilli()
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		for _, q := range []string{
			`INSERT INTO runs (number, id, kind, project, suite, matrix, environment, by_name, verdict, why, counts_json, created_at, started_at,
				ended_at, glances_json, bundle, base, vars_json, request_json, plan_json)
				SELECT ?1, id || '-' || ?1, kind, project, suite, matrix, environment, by_name, verdict, why, counts_json, created_at + ?3,
				started_at + ?3, ended_at + ?3, glances_json, bundle, base, vars_json, request_json, plan_json FROM runs WHERE number = ?2`,
			`INSERT INTO panes SELECT ?1, idx, combo, label, needs_json, dealt_json, info_json FROM panes WHERE run = ?2 AND ?3 = ?3`,
			`INSERT INTO tests SELECT ?1, idx, known, file, tags_json, locks_json FROM tests WHERE run = ?2 AND ?3 = ?3`,
			`INSERT INTO attempts SELECT ?1, pane, test, number, bench_id(started_at + ?3), sessions, fence + ?1, agent, verdict,
				started_at + ?3, took_ms, opened_ms, ran_on, message FROM attempts WHERE run = ?2`,
			`INSERT INTO details SELECT ?1, pane, test, number, steps, setup, body FROM details WHERE run = ?2 AND ?3 = ?3`,
			`INSERT INTO cells SELECT ?1, pane, test, known, combo, verdict, attempts, took_ms, agent, why, message FROM cells WHERE run = ?2
				AND ?3 = ?3`,
			`INSERT INTO walls SELECT ?1, body FROM walls WHERE run = ?2 AND ?3 = ?3`,
		} {
			if _, err := tx.Exec(q, n, from, shift); err != nil {
				return fmt.Errorf("copy run %d: %w: %.60s", from, err, q)
			}
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	_, err = db.Exec(`PRAGMA wal_checkpoint(TRUNCATE)`)
	return err
}

// measured is the number of attempts on record and the size of the file without
// the files that the attempts may have been given since.
func measured(path string) (attempts, size int64, err error) {
	db, err := sqlx.Open("sqlite", "file:"+path+"?mode=ro")
	if err != nil {
		return 0, 0, err
	}
	defer db.Close()
	if err := db.Get(&attempts, `SELECT COUNT(*) FROM attempts`); err != nil {
		return 0, 0, err
	}
	err = db.Get(&size, `SELECT SUM(pgsize) FROM dbstat WHERE name NOT LIKE '%files%'`)
	return attempts, size, err
}

// pile gives the newest attempts files, of which some are due.
func pile(path, blobs string) error {
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)")
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(`DELETE FROM files`); err != nil { // of the time before
		return err
	}
	if _, err := db.Exec(`INSERT INTO files (attempt, name, session, kind, media, hash, size, project, verdict, at)
		SELECT id, 'agent.log', 0, 'logs', 'text/plain', randomblob(32), 900, 'bench', verdict, started_at FROM attempts
		ORDER BY id DESC LIMIT ?`, keptFiles); err != nil {
		return err
	}
	if _, err := db.Exec(`UPDATE files SET at = 1 WHERE attempt IN (SELECT attempt FROM files ORDER BY attempt LIMIT ?)`,
		dueFiles); err != nil {
		return err
	}
	var due [][]byte
	if err := db.Select(&due, `SELECT hash FROM files WHERE at = 1`); err != nil {
		return err
	}
	for _, h := range due {
		name := hex.EncodeToString(h)
		if err := os.MkdirAll(filepath.Join(blobs, name[:2]), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(blobs, name[:2], name), make([]byte, 900), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// sweepUnder sweeps while results come in one after another, and says how long the
// slowest of them took and how many files went.
func (s *served) sweepUnder(ctx context.Context, bundle string) (slowest time.Duration, swept int, err error) {
	work, leave, err := s.hands(ctx, outcome)
	if err != nil {
		return 0, 0, err
	}
	defer leave()
	if err := s.call(ctx, "POST", "/runs", s.token, map[string]any{"bundle": bundle}, nil); err != nil {
		return 0, 0, err
	}
	done := make(chan error, 1)
	var out struct{ Count int }
	time.AfterFunc(500*time.Millisecond, func() { done <- s.call(ctx, "POST", "/sweeps", s.token, map[string]any{}, &out) })
	for {
		select {
		case r := <-work:
			body := make([]byte, 200) // a file comes first, as it does
			_, _ = rand.Read(body)
			sum := sha256.Sum256(body)
			r.Files = []attempt.File{{Name: "agent.log", Kind: "logs", Media: "text/plain",
				Hash: hex.EncodeToString(sum[:]), Size: int64(len(body))}}
			if err := s.call(ctx, http.MethodPut, fmt.Sprintf("/agent/files/%s?fence=%d", r.Files[0].Hash, r.Fence), s.of(r), body,
				nil); err != nil {
				return 0, 0, err
			}
			began := time.Now()
			if err := s.call(ctx, "POST", "/agent/results", s.of(r), r, nil); err != nil {
				return 0, 0, err
			}
			slowest = max(slowest, time.Since(began))
			time.Sleep(5 * time.Millisecond)
		case err := <-done:
			return slowest, out.Count, err
		}
	}
}

// drawn looks at a wide wall in the console: how long it takes to be drawn, and how
// many frames a second there are while it is scrolled, in both directions, and while
// results come in.
func (s *served) drawn(ctx context.Context, pane string, last int, wide string) ([]row, error) {
	link := exec.CommandContext(ctx, pane, "link")
	link.Env = append(os.Environ(), "PANE_SERVICE="+s.base, "PANE_TOKEN="+s.token, "XDG_CONFIG_HOME="+s.dir)
	enter, err := link.Output()
	if err != nil {
		return nil, fmt.Errorf("pane link: %w", err)
	}
	host, err := sessions.NewHost(filepath.Join(s.dir, "mine"), slog.New(slog.DiscardHandler), chromium.Family{})
	if err != nil {
		return nil, err
	}
	profile := device.Profile{Name: "bench", Size: device.Size{Width: 1280, Height: 800}, Density: 1}
	b, err := host.Open(ctx, sessions.Request{Browser: host.Found(ctx).Browsers[0], Device: profile})
	if err != nil {
		return nil, err
	}
	defer b.Close()
	if err := b.Navigate(ctx, strings.TrimSpace(string(enter))); err != nil {
		return nil, err
	}
	cells := func() (ms float64, err error) {
		err = b.ExecuteAsync(ctx, `const done = arguments[0], look = () => document.querySelector("[role=cell] a")
			? requestAnimationFrame(() => done(performance.now())) : requestAnimationFrame(look); look()`, &ms)
		return ms, err
	}
	var took []float64
	for range 5 {
		if err := b.Navigate(ctx, s.base+"/fleet"); err != nil {
			return nil, err
		}
		if err := b.Navigate(ctx, fmt.Sprintf("%s/runs/%d", s.base, last)); err != nil {
			return nil, err
		}
		ms, err := cells()
		if err != nil {
			return nil, fmt.Errorf("run %d is not drawn: %w", last, err)
		}
		took = append(took, ms)
	}
	frames := func(dx, dy int) (fps float64, err error) {
		err = b.ExecuteAsync(ctx, `let [dx, dy, done] = arguments; const wall = document.querySelector("[role=table]"), began = performance.now();
			let n = 0; const step = () => { n++;
				if (wall.scrollTop + wall.clientHeight >= wall.scrollHeight - 1) dy = -Math.abs(dy); else if (wall.scrollTop <= 0) dy = Math.abs(dy);
				if (wall.scrollLeft + wall.clientWidth >= wall.scrollWidth - 1) dx = -Math.abs(dx); else if (wall.scrollLeft <= 0) dx = Math.abs(dx);
				wall.scrollBy(dx, dy); const t = performance.now() - began;
				t > 3000 ? done(1000 * n / t) : requestAnimationFrame(step) }; requestAnimationFrame(step)`, &fps, dx, dy)
		return fps, err
	}
	down, err := frames(0, 30)
	if err != nil {
		return nil, err
	}
	across, err := frames(40, 0)
	if err != nil {
		return nil, err
	}
	work, leave, err := s.hands(ctx, outcome)
	if err != nil {
		return nil, err
	}
	defer leave()
	var run struct{ Number int }
	if err := s.call(ctx, "POST", "/runs", s.token, map[string]any{"bundle": wide}, &run); err != nil {
		return nil, err
	}
	feeding, stop := context.WithCancel(ctx)
	fed := make(chan int)
	go func() {
		n := 0
		for t := time.NewTicker(20 * time.Millisecond); feeding.Err() == nil; <-t.C {
			if r := <-work; s.call(ctx, "POST", "/agent/results", s.of(r), r, nil) == nil {
				n++
			}
		}
		fed <- n
	}()
	if err := b.Navigate(ctx, fmt.Sprintf("%s/runs/%d", s.base, run.Number)); err != nil {
		stop()
		return nil, err
	}
	liveMS, err := cells()
	if err != nil {
		stop()
		return nil, fmt.Errorf("a run that goes on is not drawn: %w", err)
	}
	time.Sleep(time.Second) // it is told of what comes
	live, err := frames(0, 30)
	stop()
	if err != nil {
		return nil, fmt.Errorf("while results come in: %w", err)
	}
	n := <-fed
	return []row{
		{"wall of 500 tests × 60 combinations in the console: until it is drawn (median of 5)", fmt.Sprintf("%.0f ms", median(took)), "1000 ms"},
		{"the same: frames a second while it is scrolled down, 30 pixels a frame", fmt.Sprintf("%.0f", down), "50"},
		{"the same across, 40 pixels a frame", fmt.Sprintf("%.0f", across), "50"},
		{"a wall of that size while results come in: until it is drawn", fmt.Sprintf("%.0f ms", liveMS), "–"},
		{fmt.Sprintf("the same down while results come in (%d in some 5 s)", n), fmt.Sprintf("%.0f", live), "50"},
	}, nil
}
