package agent

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/sessions"
)

// execute runs the tests of a slice one after another until the lease is
// dropped: each in a browser of its own, or all in one that is put in order
// between them.
func (a *Agent) execute(ctx context.Context, s link.Slice) {
	dir, done, bundleErr := a.bundles.get(ctx, s.Bundle)
	defer done()
	k := &keeper{host: a.host, keep: s.Keep}
	defer k.close()
	mask := recording.NewMask(slices.Collect(maps.Values(s.Secrets))...)
	for i, t := range s.Tests {
		if ctx.Err() != nil {
			return
		}
		if err := a.up.post(ctx, "/agent/started", link.Started{Fence: s.Fence, Test: t.Index}, nil); err != nil {
			if statusOf(err) == http.StatusConflict {
				a.drop(s.Fence)
				return
			}
			a.Log.Debug("start not announced", "error", err)
		}
		at := &execution{agent: a, slice: s, test: t, dir: dir, began: time.Now(), keeper: k, mask: mask}
		at.result = link.Result{ID: t.ID, Fence: s.Fence, Test: t.Index, Attempt: t.Attempt, Agent: a.Name,
			StartedAt: at.began.UnixMilli(), Detail: attempt.Detail{Steps: []attempt.Step{}, Record: s.Record}, Files: []attempt.File{}}
		at.note("attempt %d of %q on %s, for run %d", t.Attempt, t.Name, a.Name, s.Run)
		counted := a.meter.begin(strings.Join([]string{s.Project, s.Suite, t.Name, s.Label}, "\n"))
		if bundleErr != nil {
			at.end(verdict.LabFault, bundleErr.Error())
		} else {
			at.run(ctx)
		}
		k.done(at.result.Verdict == verdict.Passed)
		counted(at.result.Verdict == verdict.Passed)
		if ctx.Err() != nil {
			at.forget()
			return // dropped or stopping: what happened says nothing about the product
		}
		if i == len(s.Tests)-1 {
			a.vacate(s.Fence) // the service may fill the slot as soon as it has this result
		}
		at.keep()
		a.Log.Info("test ended", "run", s.Run, "pane", s.Label, "test", t.Name, "verdict", at.result.Verdict, "took", time.Since(at.began).Round(time.Millisecond))
	}
}

// execution is one execution of one test. It is its own script.Watcher.
type execution struct {
	agent    *Agent
	slice    link.Slice
	test     link.SliceTest
	dir      string
	began    time.Time
	result   link.Result
	logMu    sync.Mutex
	log      []note
	clock    time.Time // when the session was open: the zero of everything that is recorded
	captures int
	keeper   *keeper
	mask     *recording.Mask
	rec      *sessions.Recording // nil while nothing is recorded
	grown    *trickle
	quiet    func() // ends the trickle
}

// keeper opens the browsers of a slice, and keeps one for it if it is to.
type keeper struct {
	host    *sessions.Host
	keep    bool
	session *sessions.Session
	used    bool
}

// open returns a session for the next test. A kept one that cannot be put in
// order is replaced.
func (k *keeper) open(ctx context.Context, r sessions.Request) (*sessions.Session, error) {
	if k.session != nil && k.used {
		if err := k.session.Reset(ctx); err != nil {
			k.close()
		}
	}
	k.used = true
	if k.session != nil {
		return k.session, nil
	}
	var err error
	k.session, err = k.host.Open(ctx, r)
	return k.session, err
}

// done ends the browser after a test unless it is kept; only a test that passed
// leaves it in a state worth keeping.
func (k *keeper) done(passed bool) {
	if !k.keep || !passed {
		k.close()
	}
}

func (k *keeper) close() {
	if k.session != nil {
		k.session.Close()
		k.session = nil
	}
}

func (at *execution) note(format string, args ...any) {
	at.logMu.Lock()
	defer at.logMu.Unlock()
	at.log = append(at.log, note{time.Now(), at.mask.Text(fmt.Sprintf(format, args...))})
}

// note is a line of the agent's log of an attempt.
type note struct {
	at   time.Time
	text string
}

// notes writes the log, with times on the session's clock.
func (at *execution) notes() []byte {
	at.logMu.Lock()
	defer at.logMu.Unlock()
	zero := at.clock
	if zero.IsZero() {
		zero = at.began
	}
	var b bytes.Buffer
	for _, n := range at.log {
		fmt.Fprintf(&b, "%8d ms  %s\n", n.at.Sub(zero).Milliseconds(), strings.ReplaceAll(n.text, "\n", "\n             "))
	}
	return b.Bytes()
}

func (at *execution) end(v verdict.Verdict, message string) {
	at.result.Verdict, at.result.Message = v, at.mask.Text(message)
	at.note("%s%s", v, strings.TrimRight(": "+message, ": "))
}

// browser picks the combination's browser on this machine.
func (a *Agent) browser(values map[string]string) (fleet.Browser, error) {
	for _, b := range a.machine.Browsers {
		if b.Serves(values) {
			return b, nil
		}
	}
	return fleet.Browser{}, fmt.Errorf("agent %s has no usable %s %s", a.Name, cmp.Or(values["browser"], values["engine"]), values["version"])
}

func (at *execution) run(ctx context.Context) {
	a, s := at.agent, at.slice
	src, err := readWithin(at.dir, at.test.File)
	if err != nil {
		at.end(verdict.LabFault, err.Error())
		return
	}
	sc, err := script.Parse(at.test.File, src)
	if err != nil {
		at.end(verdict.Failed, err.Error())
		return
	}
	b, err := a.browser(s.Values)
	if err != nil {
		at.end(verdict.LabFault, err.Error())
		return
	}
	profile := s.Device
	at.result.Detail.Browser, at.result.Detail.Version, at.result.Detail.Device = b.Name, b.Version, profile.Name
	session, err := at.keeper.open(ctx, sessions.Request{Browser: b, Headed: s.Values["mode"] == "headed", Device: profile, Proxy: s.Record[record.Network] == record.Always})
	if err != nil {
		at.end(verdict.LabFault, err.Error())
		return
	}
	at.result.Detail.StartMS = time.Since(at.began).Milliseconds()
	at.result.Detail.Emulated = session.Outcome
	at.note("%s %s is open as %s: %s", b.Name, b.Version, profile.Name, strings.Join(session.Outcome.Applied, ", "))
	for _, m := range session.Outcome.Missing {
		at.note("not emulated: %s (%s)", m.Feature, m.Reason)
	}
	var driver atomic.Int64
	session.Client.Observe = func(_, _ string, took time.Duration, _ error) { driver.Add(int64(took)) }

	at.record(ctx, session, s.Record)
	defer a.show(at.result.ID, &watched{session: session, rec: at.rec, note: at.note})()
	vars := maps.Clone(s.Vars)
	maps.Copy(vars, s.Secrets)

	limited, cancel := context.WithTimeout(ctx, time.Duration(s.TestLimitMS)*time.Millisecond)
	defer cancel()
	out := script.Run(limited, sc, webdrive.New(session.Session, session.Gone), script.Setting{
		Base: s.Base, Root: at.dir, Marker: s.Marker,
		Scope: script.Scope{Browser: b.Name, OS: a.machine.OS, Device: script.DeviceOf(profile), Axes: s.Values, Vars: vars},
	}, at)
	at.result.Detail.Steps = out.Steps
	at.result.Detail.DriverMS = time.Duration(driver.Load()).Milliseconds()
	at.result.Site = out.Site
	at.end(out.Verdict, out.Message)
	session.LetGo()
	at.endRecording()
}

// record begins to record the attempt's session. What cannot be recorded is
// said, and the attempt goes on.
func (at *execution) record(ctx context.Context, session *sessions.Session, policy record.Policy) {
	var err error
	at.clock = time.Now()
	if at.rec, err = session.Record(ctx, policy, at.mask, at.recordings(), at.clock); err != nil {
		at.note("nothing is recorded: %v", err)
		return
	}
	at.grown = &trickle{up: at.agent.up, id: at.result.ID, fence: at.result.Fence, files: map[string]*sent{}}
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	running.Go(func() { at.trickle(ctx) })
	at.quiet = func() { cancel(); running.Wait() }
}

// endRecording keeps what the verdict leaves of the recording.
func (at *execution) endRecording() {
	if at.rec == nil {
		return
	}
	at.quiet()
	for _, m := range at.rec.End(at.result.Verdict) {
		f, err := at.agent.spool.take(at.result.ID, at.free(m.Name), string(m.Kind), m.Media, m.Path)
		if err != nil {
			at.note("%s was not kept: %v", m.Name, err)
			continue
		}
		at.result.Files = append(at.result.Files, f)
	}
	for _, m := range at.rec.Missing() {
		at.result.Detail.Lacking = append(at.result.Detail.Lacking, attempt.NotRecorded{Kind: m.Kind, Reason: m.Reason})
		at.note("not recorded: %s (%s)", m.Kind, m.Reason)
	}
	_ = os.RemoveAll(at.recordings()) // the next start of the agent removes what is left
}

// readWithin reads a file of a directory and never one outside it.
func readWithin(dir, name string) ([]byte, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.ReadFile(filepath.FromSlash(name))
}

// StepDone writes the step to the attempt's log.
func (at *execution) StepDone(r attempt.Step) {
	at.note("%-7s %s (%s, %d ms)%s", r.State, r.Title, r.At, r.TookMS, strings.TrimRight(": "+r.Message, ": "))
}

// maxCaptures bounds the screenshots that a script takes, so that what is recorded
// has room beside them in a result.
const maxCaptures = 250

// Shot keeps a screenshot. Two captures of one name get a number.
func (at *execution) Shot(name string, png []byte) string {
	if at.captures++; at.captures > maxCaptures && name != "failure" {
		at.note("%s was not kept: an attempt has at most %d captures", name, maxCaptures)
		return ""
	}
	return at.file(name+".png", "screenshots", "image/png", png)
}

// file keeps a file and returns the name that it has; "" when it could not be
// kept.
func (at *execution) file(name, kind, media string, contents []byte) string {
	f, err := at.agent.spool.file(at.result.ID, at.free(name), kind, media, contents)
	if err != nil {
		at.note("%s was not kept: %v", name, err)
		return ""
	}
	at.result.Files = append(at.result.Files, f)
	return f.Name
}

// free is a name that no file of the attempt has: with a number if need be.
func (at *execution) free(name string) string {
	name = safeName(name)
	taken := func(name string) bool {
		return slices.ContainsFunc(at.result.Files, func(f attempt.File) bool { return f.Name == name })
	}
	ext := filepath.Ext(name)
	for n, try := 2, name; ; n++ {
		if !taken(try) {
			return try
		}
		try = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), n, ext)
	}
}

// forget removes what was kept of an attempt that will have no result.
func (at *execution) forget() {
	at.agent.spool.forget(at.result.ID)
	if err := os.RemoveAll(at.recordings()); err != nil {
		at.agent.Log.Warn("a recording stays behind until the next start", "attempt", at.result.ID, "error", err)
	}
}

// keep puts the result on disk, from where it is handed in.
func (at *execution) keep() {
	if at.result.TookMS == 0 {
		at.result.TookMS = time.Since(at.began).Milliseconds()
	}
	at.file("agent.log", "logs", "text/plain; charset=utf-8", at.notes())
	at.hide()
	if err := at.agent.spool.add(at.result, at.grown); err != nil {
		at.agent.Log.Error("a result could not be kept", "test", at.test.Name, "error", err)
	}
}

// hide masks what the result says in words.
func (at *execution) hide() {
	if at.mask == nil {
		return
	}
	raw, err := json.Marshal(at.result.Detail)
	var hidden attempt.Detail
	if err == nil {
		err = json.Unmarshal(at.mask.JSON(raw), &hidden)
	}
	if err != nil {
		at.agent.Log.Error("what a result says could not be masked and is left out", "error", err)
		hidden = attempt.Detail{Steps: []attempt.Step{}}
	}
	at.result.Detail = hidden
}
