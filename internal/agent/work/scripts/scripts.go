// Package scripts carries out tests in our own format.
package scripts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"parallelpane/internal/agent/work"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/mending"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/project"
	"parallelpane/internal/recording"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/sessions"
)

// Worker carries out slices of scripts.
type Worker struct{ *work.Floor }

// Work runs the tests of a slice one after another until the lease is dropped: each
// in a browser of its own, or all in one that is put in order between them.
func (w Worker) Work(ctx context.Context, s link.Slice) {
	dir, done, bundleErr := w.Bundles.Get(ctx, s.Bundle)
	defer done()
	k := &keeper{host: w.Host, keep: s.Keep}
	defer k.close()
	mask := recording.NewMask(slices.Collect(maps.Values(s.Secrets))...)
	for i, t := range s.Tests {
		if ctx.Err() != nil || !w.Announce(ctx, s.Fence, t.Index) {
			return
		}
		at := &execution{slice: s, test: t, dir: dir, keeper: k,
			Attempt: w.Begin(t.Name, link.Result{ID: t.ID, Fence: s.Fence, Test: t.Index, Attempt: t.Attempt}, s.Record, mask)}
		at.Note("attempt %d of %q on %s, for run %d", t.Attempt, t.Name, w.Name, s.Run)
		counted := w.Meter.Begin(strings.Join([]string{s.Project, s.Suite, t.Name, s.Label}, "\n"))
		if bundleErr != nil {
			at.End(verdict.LabFault, bundleErr.Error())
		} else {
			at.run(ctx)
		}
		passed := at.Result.Verdict == verdict.Passed
		k.done(passed)
		counted(passed)
		if ctx.Err() != nil {
			at.Forget()
			return // dropped or stopping: what happened says nothing about the product
		}
		if i == len(s.Tests)-1 {
			w.Leases.Vacate(s.Fence) // the service may fill the slot as soon as it has this result
		}
		at.Keep()
		w.Log.Info("test ended", "run", s.Run, "pane", s.Label, "test", t.Name, "verdict", at.Result.Verdict, "took",
			time.Since(at.Began).Round(time.Millisecond))
	}
}

// execution is one execution of one script. It is its own script.Watcher.
type execution struct {
	*work.Attempt
	slice  link.Slice
	test   link.SliceTest
	dir    string // of the bundle
	keeper *keeper
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

func (at *execution) run(ctx context.Context) {
	s := at.slice
	sc, row, err := at.read()
	if _, wrong := errors.AsType[source.Problems](err); wrong {
		at.End(verdict.Failed, err.Error())
		return
	}
	if err != nil {
		at.End(verdict.LabFault, err.Error())
		return
	}
	b, err := at.Browser(s.Values)
	if err != nil {
		at.End(verdict.LabFault, err.Error())
		return
	}
	profile, seen := s.Device, s.Device
	if m := at.Machine.Load(); m.OS == fleet.Android { // it is what it is, whatever was asked for
		if seen = device.InHand(m.Model, m.Screen); s.Values["device"] == "" {
			if profile, err = seen.With(s.Values); err != nil { // with what is asked of it besides
				at.End(verdict.LabFault, err.Error())
				return
			}
		}
	}
	at.Result.Detail.Browser, at.Result.Detail.Version, at.Result.Detail.Device = b.Name, b.Version, profile.Name
	shape, err := traffic.Parse(s.Traffic)
	if err != nil {
		at.End(verdict.LabFault, "traffic: "+err.Error())
		return
	}
	way, err := at.Way(s.Relay, s.Fence)
	if err != nil {
		at.End(verdict.LabFault, err.Error())
		return
	}
	session, err := at.keeper.open(ctx, sessions.Request{Browser: b, Headed: s.Values["mode"] == "headed", Device: profile, Traffic: shape,
		Relay: way})
	if err != nil {
		at.End(verdict.LabFault, err.Error())
		return
	}
	at.Result.Sessions = 1
	at.Result.Detail.StartMS = time.Since(at.Began).Milliseconds()
	at.Result.Detail.Emulated = session.Outcome
	at.Note("%s %s is open as %s: %s", b.Name, b.Version, profile.Name, strings.Join(session.Outcome.Applied, ", "))
	for _, m := range session.Outcome.Missing {
		at.Note("not emulated: %s (%s)", m.Feature, m.Reason)
	}
	var driver atomic.Int64
	session.Client.Observe = func(_, _ string, took time.Duration, _ error) { driver.Add(int64(took)) }

	at.Attempt.Record(ctx, session, s.Record)
	defer at.Open.Show(at.Session(), session, at.Rec, at.Note)()
	vars := maps.Clone(s.Vars)
	maps.Copy(vars, s.Secrets)

	limited, cancel := context.WithTimeout(ctx, time.Duration(s.TestLimitMS)*time.Millisecond)
	defer cancel()
	browser := webdrive.New(session.Session, session).Conceal(at.Mask.Hides)
	if at.Rec != nil && at.Rec.Deaf() {
		browser.Heed(func(e webdrive.PageError) { at.Rec.Heard(e.Text, e.Address, e.Row, e.Column, time.UnixMilli(e.At)) })
	}
	out := script.Run(limited, sc, browser, script.Setting{
		Base: s.Base, Root: at.dir, Marker: s.Marker,
		Scope: script.Scope{Browser: b.Name, OS: at.Machine.Load().OS, Device: script.DeviceOf(seen), Axes: s.Values, Vars: vars,
			Row: row},
		Aging: at.aging(),
		Watch: func(title string) bool { return slices.Contains(at.test.Watch, attempt.Clip(title, maxTitle)) },
	}, at)
	at.Result.Seen = out.Seen
	at.Result.Detail.Steps = out.Steps
	at.Result.Detail.DriverMS = time.Duration(driver.Load()).Milliseconds()
	at.Result.Site = out.Site
	at.End(out.Verdict, out.Message)
	session.LetGo()
	at.EndRecording()
}

// maxTitle is of how many bytes the service remembers the title of a step.
const maxTitle = 500

// aging is what is done about locators that no longer find anything.
func (at *execution) aging() script.Aging {
	if at.slice.Mending == mending.Never {
		return script.Aging{}
	}
	return script.Aging{Remembers: true, Accept: at.slice.Mending == mending.Accept,
		Recall: func(ctx context.Context, place string) (*attempt.Seen, error) {
			var was link.Recalled
			err := at.Up.Post(ctx, "/agent/recall", link.Recall{Fence: at.slice.Fence, Test: at.test.Index, Place: place}, &was)
			if err != nil {
				at.Note("what %s matched before could not be asked for: %v", place, err)
			}
			return was.Seen, err
		}}
}

// read reads the test's script out of the bundle, and the values of the row that it is
// for; nil where it has none.
func (at *execution) read() (*script.Script, map[string]string, error) {
	files := project.Dir(at.dir)
	p, err := project.Load(files)
	if err != nil {
		return nil, nil, err
	}
	sc, err := p.Script(files, at.test.File)
	if err != nil || sc.Data == nil {
		return sc, nil, err
	}
	for _, r := range sc.Rows {
		if r.Of(sc.Name) == at.test.Name {
			return sc, r.Values, nil
		}
	}
	return nil, nil, fmt.Errorf("no row of %s is called as in %q", sc.Data.File, at.test.Name)
}

// StepDone writes the step to the attempt's log.
func (at *execution) StepDone(r attempt.Step) {
	at.Note("%-7s %s (%s, %d ms)%s", r.State, r.Title, r.At, r.TookMS, strings.TrimRight(": "+r.Message, ": "))
}
