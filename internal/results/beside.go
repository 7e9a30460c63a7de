package results

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/recording"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// Bounds of what is read for putting two attempts beside each other, and told.
const (
	maxCommandLog = 16 << 20
	maxBesideSaid = 200
)

// Beside puts a test of a run in two of its panes beside each other.
func (r *Results) Beside(ctx context.Context, number, test int, f api.BesideFilter) (api.Beside, error) {
	run, _, err := r.whole(ctx, number)
	if err != nil {
		return api.Beside{}, err
	}
	if test < 0 || test >= len(run.Tests) {
		return api.Beside{}, api.Errorf(api.NotFound, "run %d has no test %d: it has %d tests, counted from 0", number, test, len(run.Tests))
	}
	left, right, err := pairOf(run, test, f)
	if err != nil {
		return api.Beside{}, err
	}
	out := api.Beside{Run: run.RunSummary, Test: run.Tests[test], At: -1, Page: []likeness.Difference{}, Others: []api.PaneGlanceAt{},
		Rows: []api.BesideRow{}, Console: []api.BesideLine{}, Requests: []api.BesideRequest{}, Unlike: []string{}, Lacking: []string{}}
	for i := range run.Panes {
		if c := run.Cells[i][test]; c.Attempts > 0 {
			out.Others = append(out.Others, api.PaneGlanceAt{Pane: i, Label: run.Panes[i].Label, Verdict: c.Verdict})
		}
	}
	a, err := r.side(ctx, run, left, test)
	if err != nil {
		return out, err
	}
	b, err := r.side(ctx, run, right, test)
	if err != nil {
		return out, err
	}
	out.Left, out.Right = a.BesideSide, b.BesideSide
	for axis, v := range run.Panes[left].Values {
		if run.Panes[right].Values[axis] != v {
			out.Unlike = append(out.Unlike, axis)
		}
	}
	slices.Sort(out.Unlike)
	rows, first := triage.Align(a.steps, b.steps)
	out.First = first
	for _, x := range rows {
		out.Rows = append(out.Rows, api.BesideRow{Aligned: x, L: a.step(x.Left), R: b.step(x.Right)})
	}
	if lack(&out, "console", a.kept[record.Console], b.kept[record.Console]) {
		out.Console = consoles(a.console, b.console)
	}
	if lack(&out, "network", a.kept[record.Network], b.kept[record.Network]) {
		out.Requests = requests(a.requests, b.requests)
	}
	if err := r.pages(&out, a, b); err != nil {
		return out, err
	}
	out.Words = besideWords(&out)
	return out, nil
}

// lack says of which side something was not kept; it reports whether it was of both.
func lack(out *api.Beside, what string, left, right bool) bool {
	for _, x := range []struct {
		kept bool
		s    *api.BesideSide
	}{{left, &out.Left}, {right, &out.Right}} {
		if !x.kept {
			out.Lacking = append(out.Lacking, fmt.Sprintf("%s of %s", what, x.s.Label))
		}
	}
	return left && right
}

// pairOf finds the two panes: those that are named, or one in which the test failed and the
// one most like it in which it passed.
func pairOf(run *api.Run, test int, f api.BesideFilter) (left, right int, err error) {
	ran := func(i int) bool { return run.Cells[i][test].Attempts > 0 }
	find := func(name string) (int, error) {
		for i, p := range run.Panes {
			if p.Key == name || p.Label == name || strconv.Itoa(i) == name {
				if !ran(i) {
					return 0, api.Errorf(api.Conflict, "%q did not run on %s: choose a pane in which it did", run.Tests[test].Name, p.Label)
				}
				return i, nil
			}
		}
		return 0, api.Errorf(api.NotFound, "run %d has no pane %.80q: name one by its key, its label or its number", run.Number, name)
	}
	if left, right = -1, -1; f.Left != "" {
		if left, err = find(f.Left); err != nil {
			return
		}
	}
	if f.Right != "" {
		if right, err = find(f.Right); err != nil {
			return
		}
	}
	best := func(than int, fits func(verdict.Verdict) bool) int {
		if all := likest(run, test, than, fits); len(all) > 0 {
			return all[0]
		}
		return -1
	}
	bad := func(v verdict.Verdict) bool { return v != verdict.Passed }
	good := func(v verdict.Verdict) bool { return v == verdict.Passed }
	any := func(verdict.Verdict) bool { return true }
	if left < 0 {
		if left = best(right, bad); left < 0 {
			left = best(right, any)
		}
	}
	if right < 0 && left >= 0 {
		if right = best(left, good); right < 0 {
			right = best(left, any)
		}
	}
	if left < 0 || right < 0 {
		return 0, 0, api.Errorf(api.Conflict, "%q ran in fewer than two panes of run %d: there is nothing to put beside it",
			run.Tests[test].Name, run.Number)
	}
	return left, right, nil
}

// likest lists the panes of other cells of a test that ran and fit, those that have most values
// in common with a pane first; than is -1 for none.
func likest(run *api.Run, test, than int, fits func(verdict.Verdict) bool) (out []int) {
	same := make([]int, len(run.Panes))
	for i, p := range run.Panes {
		if c := run.Cells[i][test]; i == than || c.Attempts == 0 || !fits(c.Verdict) {
			continue
		}
		out = append(out, i)
		if than < 0 {
			continue
		}
		for axis, v := range p.Values {
			if run.Panes[than].Values[axis] == v {
				same[i]++
			}
		}
	}
	slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(same[b], same[a]) })
	return out
}

// side is what is read of one attempt.
type side struct {
	api.BesideSide
	steps    []attempt.Step
	files    []store.File
	shots    []shot
	console  []recording.Line
	requests []asked
	kept     map[record.Kind]bool // kinds of recordings
}

// shot is a recorded picture, and when it was taken.
type shot struct {
	at   float64
	name string
}

// asked is a request.
type asked struct {
	method, path string
	status       int
	took         float64
}

// side reads the newest attempt of a cell that has its verdict.
func (r *Results) side(ctx context.Context, run *api.Run, pane, test int) (*side, error) {
	attempts, err := r.store.AttemptsIn(ctx, run.Number, pane, test)
	if err != nil {
		return nil, err
	}
	if len(attempts) == 0 {
		return nil, api.Errorf(api.Conflict, "nothing is kept of %q on %s", run.Tests[test].Name, run.Panes[pane].Label)
	}
	of := attempts[len(attempts)-1]
	if run.Cells[pane][test].Verdict == verdict.Flaky { // it is looked at for how it failed
		for _, a := range attempts {
			if a.Verdict == string(verdict.Failed) {
				of = a
			}
		}
	}
	a, err := r.store.AttemptByID(ctx, of.ID)
	if err != nil {
		return nil, err
	}
	d, err := walls.Unpack(a.Detail)
	if err != nil {
		return nil, fmt.Errorf("records of attempt %s: %w", a.ID, err)
	}
	s := &side{steps: d.Steps, kept: map[record.Kind]bool{}, BesideSide: api.BesideSide{Pane: pane,
		Label: run.Panes[pane].Label, Attempt: a.ID, Number: a.Number,
		Agent: a.Agent, Browser: d.Browser, Version: d.Version, Verdict: verdict.Verdict(a.Verdict), Message: a.Message,
		StartedAt: api.At(a.StartedAt), TookMS: a.TookMS}}
	if a.Sessions > 0 {
		s.Session = attempt.Session(a.ID, 1)
	}
	if s.files, err = r.store.FilesOf(ctx, []string{a.ID}); err != nil {
		return nil, err
	}
	for _, f := range s.files {
		if f.Session > 1 {
			continue // the first session is the test's own
		}
		if err := r.readSide(s, f); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (r *Results) readSide(s *side, f store.File) error {
	limit := int64(maxEvidence)
	switch f.Kind {
	case string(record.Commands):
		limit = maxCommandLog
	case string(record.Console), string(record.Network):
	default:
		return nil
	}
	body, err := r.blobs.Get(f.Hash)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer body.Close()
	s.kept[record.Kind(f.Kind)] = true
	in := io.LimitReader(body, limit)
	switch f.Kind {
	case string(record.Console):
		lines, _ := recording.Read[recording.Line](in) // what can be read will do
		for _, l := range lines {
			if (l.Level == "error" || l.Level == "warn") && len(s.console) < maxBesideSaid {
				s.console = append(s.console, l)
			}
		}
	case string(record.Commands):
		commands, _ := recording.Read[recording.Command](in)
		for _, c := range commands {
			if c.Shot != "" {
				s.shots = append(s.shots, shot{c.AtMS + c.TookMS, c.Shot})
			}
		}
	case string(record.Network):
		s.requests = inHAR(in)
	}
	return nil
}

func inHAR(in io.Reader) (all []asked) {
	var har recording.HAR
	if json.NewDecoder(in).Decode(&har) != nil {
		return nil
	}
	for _, e := range har.Log.Entries {
		u, err := url.Parse(e.Request.URL)
		if err != nil || len(all) == maxBesideSaid || path.Base(u.Path) == "favicon.ico" {
			continue
		}
		all = append(all, asked{e.Request.Method, u.Path, e.Response.Status, e.Time})
	}
	return all
}

func (s *side) step(i int) *api.BesideStep {
	if i < 0 {
		return nil
	}
	x := s.steps[i]
	out := &api.BesideStep{State: x.State, TookMS: x.TookMS, StartMS: x.StartMS, Matched: x.Matched, Message: x.Message, Picture: x.Shot,
		Own: x.Shot != ""}
	if out.Picture == "" && x.State != attempt.Unrun && x.State != attempt.Skipped {
		for _, p := range s.shots {
			if p.at > float64(x.StartMS+x.TookMS) {
				break
			}
			out.Picture, out.Own = p.name, p.at >= float64(x.StartMS)
		}
	}
	return out
}

// consoles puts what two consoles said together, each text once.
func consoles(left, right []recording.Line) []api.BesideLine {
	out := []api.BesideLine{}
	at := map[string]int{}
	for i, lines := range [][]recording.Line{left, right} {
		for _, l := range lines {
			k, known := at[l.Level+l.Text]
			if !known {
				k = len(out)
				at[l.Level+l.Text] = k
				out = append(out, api.BesideLine{Level: l.Level, Text: l.Text, LeftMS: -1, RightMS: -1})
			}
			if to := map[int]*float64{0: &out[k].LeftMS, 1: &out[k].RightMS}[i]; *to < 0 {
				*to = l.AtMS
			}
		}
	}
	slices.SortStableFunc(out, func(a, b api.BesideLine) int {
		return cmp.Compare(min(a.LeftMS, a.RightMS, 0), min(b.LeftMS, b.RightMS, 0))
	})
	return out
}

// requests puts what was asked for together, by method and path, the nth with the nth.
func requests(left, right []asked) []api.BesideRequest {
	out := []api.BesideRequest{}
	at := map[string]int{}
	for i, all := range [][]asked{left, right} {
		n := map[string]int{}
		for _, q := range all {
			k := q.method + " " + q.path
			n[k]++
			place := k + " " + strconv.Itoa(n[k])
			j, known := at[place]
			if !known {
				j = len(out)
				at[place] = j
				out = append(out, api.BesideRequest{Method: q.method, Path: q.path, Left: -1, Right: -1})
			}
			if i == 0 {
				out[j].Left, out[j].LeftMS = q.status, q.took
			} else {
				out[j].Right, out[j].RightMS = q.status, q.took
			}
		}
	}
	for j := range out {
		x := &out[j]
		if x.Left < 0 || x.Right < 0 {
			continue
		}
		if a, b := x.LeftMS, x.RightMS; max(a, b) >= 2*min(a, b) && max(a, b)-min(a, b) >= 300 {
			x.Slow = map[bool]string{true: "left", false: "right"}[a > b]
		}
	}
	rank := func(x api.BesideRequest) int {
		switch {
		case x.Left != x.Right:
			return 0
		case x.Slow != "":
			return 1
		}
		return 2
	}
	slices.SortStableFunc(out, func(a, b api.BesideRequest) int { return rank(a) - rank(b) })
	return out[:min(len(out), maxBesideSaid)]
}

// pages compares what the pages were made of at the first row of which both were kept, the
// first that differs before others.
func (r *Results) pages(out *api.Beside, a, b *side) error {
	best := -1
	for i, row := range out.Rows {
		if row.Left >= 0 && row.Right >= 0 && a.steps[row.Left].Page != "" && b.steps[row.Right].Page != "" && (best < 0 || i == out.First) {
			best = i
		}
	}
	if best < 0 {
		out.Why = "The page was not kept on both sides: tests that pass keep it at the steps at which they failed before, from the next run on."
		return nil
	}
	here, err := r.page(a, a.steps[out.Rows[best].Left].Page)
	if err != nil {
		return err
	}
	there, err := r.page(b, b.steps[out.Rows[best].Right].Page)
	if err != nil {
		return err
	}
	if here == nil || there == nil {
		out.Why = "The page is no longer kept on both sides."
		return nil
	}
	out.At, out.Page = best, likeness.Differences(here, there, out.Rows[best].Title)
	return nil
}

// page reads what a page was made of; nil when it is no longer there.
func (r *Results) page(s *side, name string) (*likeness.Page, error) {
	i := slices.IndexFunc(s.files, func(f store.File) bool { return f.Name == name })
	if i < 0 {
		return nil, nil
	}
	return r.readPage(s.files[i])
}

func (r *Results) readPage(f store.File) (*likeness.Page, error) {
	body, err := r.blobs.Get(f.Hash)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer body.Close()
	var p likeness.Page
	if err := json.NewDecoder(io.LimitReader(body, likeness.MaxPage)).Decode(&p); err != nil {
		return nil, nil // an agent sent something else
	}
	return &p, nil
}

// besideWords says the first difference in a sentence.
func besideWords(b *api.Beside) string {
	if b.First < 0 {
		if b.Left.Verdict == b.Right.Verdict {
			return "Every step ended alike and acted on the same elements."
		}
		return fmt.Sprintf("No step tells why it %s on %s and %s on %s.", b.Left.Verdict, b.Left.Label, b.Right.Verdict, b.Right.Label)
	}
	row := b.Rows[b.First]
	about := fmt.Sprintf("Step %d, %s", b.First+1, strings.TrimSpace(row.Title))
	switch {
	case row.L == nil:
		return fmt.Sprintf("%s, is there on %s only.", about, b.Right.Label)
	case row.R == nil:
		return fmt.Sprintf("%s, is there on %s only.", about, b.Left.Label)
	case row.L.State != row.R.State:
		why, _, _ := strings.Cut(cmp.Or(row.L.Message, row.R.Message), "\n")
		return strings.TrimRight(fmt.Sprintf("%s: %s on %s, %s on %s. %s", about, stateWord(row.L.State), b.Left.Label,
			stateWord(row.R.State), b.Right.Label, why), " ")
	}
	return fmt.Sprintf("%s, acts on another element: %s on %s, %s on %s.", about, row.L.Matched, b.Left.Label, row.R.Matched, b.Right.Label)
}

// stateWord is how a step ended, for people.
func stateWord(s attempt.State) string {
	switch s {
	case attempt.LabFault:
		return "ended by the lab's fault"
	case attempt.Unrun:
		return "was not reached"
	case attempt.Skipped:
		return "was skipped"
	}
	return string(s)
}
