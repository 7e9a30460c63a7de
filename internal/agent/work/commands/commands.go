// Package commands carries out suites that are commands: any test program, run once for
// each of its files, with the combination given from outside. What became of its tests it
// reads from what the program writes of them.
package commands

import (
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
	"time"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/agent/work"
	"parallelpane/internal/core/outcome"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/project"
	"parallelpane/internal/recording"
)

// Worker carries out slices of command suites.
type Worker struct {
	*work.Floor
	*Outputs
}

// Work runs the command for each file of a slice, one after the other, until the lease
// is dropped.
func (w Worker) Work(ctx context.Context, s link.Slice) {
	dir, done, err := w.Bundles.Get(ctx, s.Bundle)
	defer done()
	mask := recording.NewMask(slices.Collect(maps.Values(s.Secrets))...)
	var cases []suite.Case
	if err == nil {
		cases, err = casesOf(dir, s.Suite)
	}
	all := units(cases, s.Tests)
	for i, u := range all {
		x := &execution{Floor: w.Floor, live: &live{mask: mask, off: ofLines(s.Secrets)}, slice: s, unit: u.Name, file: u.File,
			row: u.Row, asked: u.asked, mask: mask}
		if ctx.Err() != nil || !x.announce(ctx) {
			return
		}
		said := said{lab: err}
		if err == nil {
			done := w.show(x.asked[max(0, x.whole())].ID, x.live)
			said = x.run(ctx, dir)
			done()
		}
		if !x.tell(ctx, said, i == len(all)-1) {
			return
		}
	}
}

// ofLines reports whether a secret has several lines.
func ofLines(secrets map[string]string) bool {
	for _, v := range secrets {
		if strings.Contains(v, "\n") {
			return true
		}
	}
	return false
}

// casesOf lists what a suite's command is run for.
func casesOf(dir, name string) ([]suite.Case, error) {
	files := project.Dir(dir)
	p, err := project.Load(files)
	if err != nil {
		return nil, err
	}
	of, err := p.Suite(name)
	if err != nil {
		return nil, err
	}
	return p.Cases(files, of)
}

// unit is one run of the command: for a file, or for a row of data with it.
type unit struct {
	suite.Case
	asked []link.SliceTest
}

// units sorts tests by the run of the command that tells of them, in the order in which
// they come. Where the cases cannot be known, each file is one.
func units(cases []suite.Case, tests []link.SliceTest) (out []unit) {
	for _, t := range tests {
		c := suite.Case{Name: t.File, File: t.File}
		if i := suite.Owner(cases, t.Name); i >= 0 {
			c = cases[i]
		}
		i := slices.IndexFunc(out, func(u unit) bool { return u.Name == c.Name })
		if i < 0 {
			i = len(out)
			out = append(out, unit{Case: c})
		}
		out[i].asked = append(out[i].asked, t)
	}
	return out
}

// execution is the command's run for one file, or for a row of data with it.
type execution struct {
	*work.Floor
	slice link.Slice
	unit  string // the name of the test that stands for it
	file  string
	row   *suite.Row       // nil where there is none
	asked []link.SliceTest // of the file; the file itself is one of them, unless only tests of it are tried again
	mask  *recording.Mask
	live  *live

	mu    sync.Mutex
	notes []string // for the log of the attempt that stands for the file
	began time.Time
}

// whole is the place of the file itself among what is asked for; -1 when it is not.
func (x *execution) whole() int {
	return slices.IndexFunc(x.asked, func(t link.SliceTest) bool { return t.Name == x.unit })
}

func (x *execution) announce(ctx context.Context) bool {
	x.began = time.Now()
	return x.Announce(ctx, x.slice.Fence, x.asked[max(0, x.whole())].Index)
}

func (x *execution) note(format string, args ...any) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.notes) < 2000 {
		x.notes = append(x.notes, fmt.Sprintf("%6d ms  ", time.Since(x.began).Milliseconds())+fmt.Sprintf(format, args...))
	}
}

// said is what a command came to.
type said struct {
	lab      error // the lab is at fault
	site     bool  // no: the site is, which cannot be reached
	lacks    bool  // no: something is not there that this suite needs, which is no reason to rest for others
	exit     int
	over     string // the limit that it went over, in words; "" when it ended by itself
	report   *outcome.Report
	results  []byte // the file itself
	printed  bool   // they are what it printed
	missing  string // why there is no report
	output   string
	sessions []*opened
	attached []attached
	stood    ranOn
	cleanUp  func()
}

// ranOn is what the command ran on.
type ranOn struct{ browser, version, name string }

// attached is a file that the tests left for us.
type attached struct {
	path    string // below the directory of attachments
	content []byte
}

// tell hands in what became of the file and of each of its tests; false when the lease
// has ended.
func (x *execution) tell(ctx context.Context, s said, last bool) bool {
	if s.cleanUp != nil {
		defer s.cleanUp()
	}
	if ctx.Err() != nil {
		return false
	}
	tests := map[string]outcome.Test{}
	var names []link.FoundTest
	if s.report != nil {
		for _, t := range s.report.Tests {
			name := x.mask.Text(suite.Told(x.unit, t.Suite, t.Name))
			if _, twice := tests[name]; !twice {
				names = append(names, link.FoundTest{Name: name, File: x.file})
			}
			tests[name] = t
		}
	}
	all := x.asked
	if x.whole() >= 0 && len(names) > 0 {
		more, err := x.found(ctx, names)
		if ctx.Err() != nil || upstream.Status(err) == http.StatusConflict {
			return false // the lease has ended
		}
		if err != nil {
			s.missing, s.report = "its tests are not taken: "+err.Error(), nil
			clear(tests)
		}
		have := map[int]bool{}
		for _, t := range all {
			have[t.Index] = true
		}
		for _, t := range more {
			if !have[t.Index] {
				all = append(slices.Clip(all), t)
			}
		}
	}
	// The file itself comes last: with it the lease has all of its results.
	slices.SortStableFunc(all, func(a, b link.SliceTest) int { return cmp.Compare(x.order(a), x.order(b)) })
	whose := x.owners(s, all, tests)
	for i, t := range all {
		at := x.Begin(t.Name, link.Result{ID: t.ID, Fence: x.slice.Fence, Test: t.Index, Attempt: t.Attempt}, x.slice.Record, x.mask)
		at.Result.Detail.Browser, at.Result.Detail.Version, at.Result.Detail.Device = s.stood.browser, s.stood.version, s.stood.name
		if t.Name == x.unit {
			x.tellFile(at, s)
		} else {
			x.tellTest(at, s, tests, t.Name)
		}
		for _, o := range whose[i] {
			if o.by != "" {
				at.Note("a session is this test's by %s", o.by)
			}
			at.Adopt(o.made, o.missing)
		}
		for _, f := range s.attached {
			if mine := belongs(f.path, t.Name); mine || t.Name == x.unit && !slices.ContainsFunc(all, func(o link.SliceTest) bool {
				return o.Name != x.unit && belongs(f.path, o.Name)
			}) {
				at.Attached(filepath.Base(f.path), mediaOf(f.path), f.content)
			}
		}
		if ctx.Err() != nil {
			at.Forget()
			return false
		}
		if last && i == len(all)-1 {
			x.Leases.Vacate(x.slice.Fence)
		}
		at.Keep()
		x.Log.Info("test ended", "run", x.slice.Run, "pane", x.slice.Label, "test", t.Name, "verdict", at.Result.Verdict)
	}
	return true
}

func (x *execution) order(t link.SliceTest) int {
	if t.Name == x.unit {
		return 1
	}
	return 0
}

// found tells the service of the tests that the command told of, again until it answers.
func (x *execution) found(ctx context.Context, names []link.FoundTest) ([]link.SliceTest, error) {
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		var a link.FoundAnswer
		err := x.Up.Post(ctx, "/agent/found", link.Found{Fence: x.slice.Fence, Tests: names}, &a)
		if status := upstream.Status(err); err == nil || ctx.Err() != nil || status >= 400 && status < 500 &&
			status != http.StatusTooManyRequests {
			return a.Tests, err
		}
		x.Log.Warn("tests that were found are not told yet", "run", x.slice.Run, "file", x.file, "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// tellFile says whether the command went through the file to its end.
func (x *execution) tellFile(at *work.Attempt, s said) {
	at.Began = x.began
	at.Result.StartedAt, at.Result.TookMS = x.began.UnixMilli(), max(1, time.Since(x.began).Milliseconds())
	x.mu.Lock()
	for _, n := range x.notes {
		at.Note("%s", n)
	}
	x.mu.Unlock()
	at.Text("output.log", s.output)
	if s.report != nil {
		for _, p := range s.report.Problems {
			at.Note("results:%s", p)
		}
	}
	if s.results != nil && !s.printed {
		at.Attached("results."+map[bool]string{true: "xml", false: "tap"}[x.slice.Command.Results == suite.JUnit],
			"text/plain; charset=utf-8", s.results)
	}
	v, message := s.verdict(x.slice.Command.Results)
	at.Result.Site, at.Result.Lacks = s.site, s.lab == nil || s.lacks
	at.End(v, message)
}

// verdict is that of the file itself, by the rules of docs/running.md.
func (s said) verdict(how suite.Results) (verdict.Verdict, string) {
	failed, told := 0, 0
	if s.report != nil {
		told = len(s.report.Tests)
		failed = s.report.Counts()[verdict.Failed]
	}
	after := fmt.Sprintf(", after %d tests", told)
	switch {
	case s.lab != nil:
		return verdict.LabFault, s.lab.Error()
	case s.over != "":
		return verdict.Failed, "the command " + s.over + after
	case s.exit == 127 && told == 0:
		return verdict.LabFault, "a program of the command is not on this agent (exit code 127): " + lastLine(s.output)
	case how == suite.Exit && s.exit != 0:
		return verdict.Failed, fmt.Sprintf("exit code %d: %s", s.exit, lastLine(s.output))
	case how == suite.Exit:
		return verdict.Passed, ""
	case s.missing != "":
		return verdict.Failed, fmt.Sprintf("exit code %d and no results: %s", s.exit, s.missing)
	case s.report.Cut:
		return verdict.Failed, fmt.Sprintf("the results are cut short%s: %s", after, s.report.Problems[len(s.report.Problems)-1])
	case told == 0 && len(s.report.Problems) > 0:
		return verdict.Failed, "results:" + s.report.Problems[0].String()
	case s.exit != 0 && failed == 0:
		return verdict.Failed, fmt.Sprintf("exit code %d, and none of %d tests failed: %s", s.exit, told, lastLine(s.output))
	}
	return verdict.Passed, ""
}

func lastLine(s string) string {
	s = strings.TrimSpace(s)
	return s[strings.LastIndexByte(s, '\n')+1:]
}

// tellTest gives a test what the command told of it. One that it did not tell of this
// time has failed: the file's own attempt says how far the command came.
func (x *execution) tellTest(at *work.Attempt, s said, tests map[string]outcome.Test, name string) {
	t, told := tests[name]
	if !told {
		v, message := s.verdict(x.slice.Command.Results)
		if v != verdict.LabFault {
			v, message = verdict.Failed, "the command did not tell of this test"+prefixed(": ", message)
		}
		at.Result.Site, at.Result.Lacks = s.site, s.lab == nil || s.lacks
		at.End(v, message)
		return
	}
	began := t.Began
	if began.Before(x.began) || began.After(time.Now()) {
		began = x.began
	}
	at.Began = began
	at.Result.StartedAt, at.Result.TookMS = began.UnixMilli(), max(1, int64(t.Seconds*1000))
	at.Text("failure.txt", t.Detail)
	at.Text("output.txt", t.Output)
	at.Note("told by %s, which took %.3g s in it", x.unit, t.Seconds)
	at.End(t.Verdict, t.Message)
}

// owned is a session with how it was found out whose it is.
type owned struct {
	*opened
	by string
}

// owners finds out whose each session is: the test's that the command named, else that of
// the test which ran when it was opened, else the file's.
func (x *execution) owners(s said, all []link.SliceTest, tests map[string]outcome.Test) map[int][]owned {
	out := map[int][]owned{}
	for _, o := range s.sessions {
		to, by := -1, ""
		for i, t := range all {
			told, known := tests[t.Name]
			switch {
			case o.name != "" && known && (told.Name == o.name || suite.Told(x.unit, told.Suite, told.Name) == o.name):
				to, by = i, "its name"
			case by == "" && known && told.Seconds > 0 && !told.Began.IsZero() && within(o.began, told):
				to = i
			}
		}
		if to >= 0 && by == "" {
			by = "the time"
		}
		if to < 0 {
			to = slices.IndexFunc(all, func(t link.SliceTest) bool { return t.Name == x.unit })
			if told := len(tests); to < 0 && told > 0 && len(all) > 0 {
				to = 0
			}
		}
		if to >= 0 {
			out[to] = append(out[to], owned{o, by})
		}
	}
	return out
}

// within says whether a test ran at a time.
func within(at time.Time, t outcome.Test) bool {
	return !at.Before(t.Began) && at.Before(t.Began.Add(time.Duration(t.Seconds*float64(time.Second))))
}

// belongs says whether a file lies in the directory of a test, which has the test's name
// with what is no letter or digit as dashes, or with none of it.
func belongs(path, test string) bool {
	dir, _, below := strings.Cut(filepath.ToSlash(path), "/")
	if !below {
		return false
	}
	name := test[strings.LastIndex(test, suite.Part)+1:]
	return plain(dir) == plain(strings.TrimPrefix(name, strings.TrimPrefix(suite.Part, " "))) || plain(dir) == plain(test)
}

func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r > 127 {
			return r
		}
		return -1
	}, strings.ToLower(s))
}

func mediaOf(path string) string {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".png":
		return "image/png"
	case ".jpg", ".jpeg":
		return "image/jpeg"
	case ".json":
		return "application/json"
	case ".txt", ".log", ".md", ".csv", ".xml", ".html":
		return "text/plain; charset=utf-8"
	}
	return "application/octet-stream"
}

// combination is the pane's as JSON, for PANE_COMBINATION and the file beside it.
func (x *execution) combination() string {
	raw, err := json.Marshal(x.slice.Values)
	if err != nil {
		return "{}"
	}
	return string(raw)
}

// recordings is where the sessions of the command are recorded.
func (x *execution) recordings() (dir string, err error) {
	dir = filepath.Join(x.Dir, "recordings", "command-"+x.asked[0].ID)
	return dir, os.MkdirAll(dir, 0o700)
}
