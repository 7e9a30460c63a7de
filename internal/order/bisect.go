package order

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/bisect"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// Bounds of searches.
const (
	maxOpenBisects = 50
	maxFaults      = 3 // tries of a candidate that say nothing, after which it is left out
)

// search is what a search was asked for, with everything settled.
type search struct {
	Axis       api.BisectAxis    `json:"axis"`
	Values     map[string]string `json:"values"` // of the combination
	Label      string            `json:"label"`
	Candidates []string          `json:"candidates"`
	Sure       float64           `json:"sure"`
	Most       int               `json:"most"`
	Request    api.RunRequest    `json:"request"` // of a try
}

// Bisect begins a search for where a test of an ended run begins to fail. What that run
// tells already counts as tried.
func (desk *Desk) Bisect(ctx context.Context, who api.Who, number int, q api.BisectRequest) (api.Bisect, error) {
	fail := func(kind api.Kind, format string, args ...any) (api.Bisect, error) {
		return api.Bisect{}, api.Errorf(kind, format, args...)
	}
	old, err := desk.records.Run(ctx, number)
	if err != nil {
		return api.Bisect{}, err
	}
	s := search{Axis: q.Axis, Sure: q.Sure, Most: q.Most, Request: old.Request}
	if s.Axis == "" {
		s.Axis = api.ByVersion
	}
	if s.Sure == 0 {
		s.Sure = 0.95
	}
	if s.Most == 0 {
		s.Most = 60
	}
	switch {
	case old.Kind == api.RemoteKind:
		return fail(api.Conflict, "run %d is of sessions that somebody else's runner opened: only that runner can repeat a test of it", number)
	case old.State != api.Ended:
		return fail(api.Conflict, "run %d has not ended: wait for it or cancel it", number)
	case s.Axis != api.ByVersion && s.Axis != api.ByBundle:
		return fail(api.Invalid, "axis: expected version or bundle, found %q", q.Axis)
	case !(s.Sure >= 0.5 && s.Sure <= 0.999):
		return fail(api.Invalid, "sure: expected 0.5 to 0.999, found %g", q.Sure)
	case s.Most < 1 || s.Most > 500:
		return fail(api.Invalid, "most: expected 1 to 500, found %d", q.Most)
	}
	test := slices.IndexFunc(old.Tests, func(t api.Test) bool { return t.Name == q.Test || t.File == q.Test })
	if test < 0 {
		return fail(api.Invalid, "test: run %d has none called %q: pane show %d lists them", number, q.Test, number)
	}
	pane := paneOf(old, test, q.Pane)
	if pane < 0 && q.Pane != "" {
		return fail(api.Invalid, "pane: run %d has no combination %q: pane show %d lists them", number, q.Pane, number)
	}
	if pane < 0 {
		return fail(api.Conflict, "%s did not fail in run %d: name a combination in which to look", old.Tests[test].Name, number)
	}
	row, err := desk.records.Row(ctx, number)
	if err != nil {
		return api.Bisect{}, err
	}
	if lacking := lacking(row.SecretNames, q.Secrets); len(lacking) > 0 {
		return fail(api.Conflict, "run %d had secrets, which went with its end: give %s again with --secret", number, strings.Join(lacking, ", "))
	}
	s.Values, s.Label = maps.Clone(old.Panes[pane].Values), old.Panes[pane].Label
	s.Request.Tests, s.Request.Tags, s.Request.Retries, s.Request.Deal = []string{old.Tests[test].Name}, nil, 0, ""
	s.Request.StopAfter, s.Request.Secrets = 0, nil
	if s.Candidates, err = desk.candidates(ctx, who, old, s); err != nil {
		return api.Bisect{}, err
	}
	if len(s.Candidates) < 2 {
		what := "versions of " + s.Values["browser"]
		if s.Axis == api.ByBundle {
			what = "bundles of the suite's runs"
		}
		return fail(api.Conflict, "there are not two %s to look among: %s", what, strings.Join(s.Candidates, ", "))
	}
	open, err := desk.store.Bisects(ctx, true, maxOpenBisects)
	if err != nil {
		return api.Bisect{}, err
	}
	if len(open) >= maxOpenBisects {
		return fail(api.Conflict, "%d searches go on already: wait for one, or end one with pane bisect end ID", len(open))
	}
	sealed, err := desk.seal.Close(q.Secrets)
	if err != nil {
		return api.Bisect{}, err
	}
	b := store.Bisect{ID: store.NewID(), Project: old.Project, Run: number, Test: old.Tests[test].Name, Ask: store.JSON(s), Secrets: sealed,
		By: who.Person(), StartedAt: store.Millis(desk.now())}
	batch := []store.Stmt{store.AddBisect(b)}
	for i, t := range known(old, s, test, pane) {
		t.Bisect, t.Place = b.ID, i
		batch = append(batch, store.SaveBisectTry(t))
	}
	if err := desk.store.Enqueue(batch...).Wait(); err != nil {
		return api.Bisect{}, err
	}
	return desk.OneBisect(ctx, b.ID)
}

// paneOf is the pane of a run by key or label, or the first in which a test failed; -1
// for none.
func paneOf(run api.Run, test int, name string) int {
	return slices.IndexFunc(run.Panes, func(p api.Pane) bool {
		if name != "" {
			return p.Key == name || p.Label == name
		}
		return run.Cells[p.Index][test].Verdict == verdict.Failed
	})
}

// candidates lists what to look among, oldest first: versions that some agent has which
// could do the combination, or bundles of the suite's runs up to this one that are still
// here.
func (desk *Desk) candidates(ctx context.Context, who api.Who, old api.Run, s search) (out []string, err error) {
	if s.Axis == api.ByBundle {
		all, err := desk.store.BundlesBefore(ctx, old.Project, old.Suite, old.Number, bisect.MaxCandidates)
		return slices.DeleteFunc(all, func(hash string) bool { return !desk.blobs.Has(hash) }), err
	}
	lab := desk.lab.Fleet(who, old.Project)
	for _, v := range lab.Versions(s.Values) {
		values := maps.Clone(s.Values)
		values["version"] = combo.Number(v)
		if fleet.Ask(fleet.NeedsOf(old.Project, values).With(s.Request.Needs), lab.Members).Possible() {
			out = append(out, combo.Number(v))
		}
	}
	out = slices.Compact(out)
	return out[max(0, len(out)-bisect.MaxCandidates):], nil
}

// known are the tries that a run itself is worth: its test in the combination, and in
// others that differ in the version alone.
func known(old api.Run, s search, test, pane int) (out []store.BisectTry) {
	for i, p := range old.Panes {
		c := old.Cells[i][test]
		if c.Verdict != verdict.Passed && c.Verdict != verdict.Failed || c.Attempts != 1 {
			continue
		}
		at := -1
		if s.Axis == api.ByBundle && i == pane {
			at = slices.Index(s.Candidates, old.Request.Bundle)
		}
		if s.Axis == api.ByVersion && sameBut(p.Values, old.Panes[pane].Values, "version") {
			at = slices.Index(s.Candidates, p.Info.Version)
		}
		if at >= 0 {
			out = append(out, store.BisectTry{Candidate: at, Run: old.Number, Verdict: string(c.Verdict), Session: c.Session})
		}
	}
	return out
}

// sameBut says whether two combinations differ in one axis at most.
func sameBut(a, b map[string]string, axis string) bool {
	a, b = maps.Clone(a), maps.Clone(b)
	delete(a, axis)
	delete(b, axis)
	return maps.Equal(a, b)
}

// OneBisect reads a search.
func (desk *Desk) OneBisect(ctx context.Context, id string) (api.Bisect, error) {
	row, err := desk.store.Bisect(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return api.Bisect{}, api.Errorf(api.NotFound, "there is no search %.100q: pane bisect list shows those there are", id)
	}
	if err != nil {
		return api.Bisect{}, err
	}
	b, _, err := desk.bisectOf(ctx, row)
	return b, err
}

// Bisects lists searches, newest first.
func (desk *Desk) Bisects(ctx context.Context) ([]api.Bisect, error) {
	rows, err := desk.store.Bisects(ctx, false, 200)
	if err != nil {
		return nil, err
	}
	out := []api.Bisect{}
	for _, row := range rows {
		b, _, err := desk.bisectOf(ctx, row)
		if err != nil {
			desk.log.Error("a search's record cannot be read", "search", row.ID, "error", err)
			continue
		}
		out = append(out, b)
	}
	return out, nil
}

func (desk *Desk) bisectOf(ctx context.Context, row store.Bisect) (b api.Bisect, s search, err error) {
	if err = json.Unmarshal([]byte(row.Ask), &s); err != nil {
		return b, s, fmt.Errorf("records of search %s: %w", row.ID, err)
	}
	b = api.Bisect{ID: row.ID, Project: row.Project, Run: row.Run, Test: row.Test, Axis: s.Axis, Label: s.Label, Candidates: s.Candidates,
		Tries: []api.BisectTry{}, Sure: s.Sure, Most: s.Most, By: row.By, StartedAt: api.At(row.StartedAt), EndedAt: api.At(row.EndedAt)}
	tries, err := desk.store.BisectTries(ctx, row.ID)
	if err != nil {
		return b, s, err
	}
	for _, t := range tries {
		if t.Candidate < 0 || t.Candidate >= len(s.Candidates) {
			return b, s, fmt.Errorf("records of search %s: a try of candidate %d", row.ID, t.Candidate)
		}
		b.Tries = append(b.Tries, api.BisectTry{Candidate: s.Candidates[t.Candidate], Run: t.Run, Verdict: verdict.Verdict(t.Verdict),
			Session: t.Session})
	}
	if row.Answer != "" {
		b.Answer = &api.BisectAnswer{}
		err = json.Unmarshal([]byte(row.Answer), b.Answer)
	}
	return b, s, err
}

// EndBisect ends a search before it has its answer. The try that runs goes on.
func (desk *Desk) EndBisect(ctx context.Context, who api.Who, id string) (api.Bisect, error) {
	a := api.BisectAnswer{Kind: bisect.Undecided, Words: "ended by " + who.Person()}
	err := desk.store.Enqueue(store.EndBisect(id, store.JSON(a), store.Millis(desk.now()))).Wait()
	if err != nil && !errors.Is(err, store.ErrGuard) {
		return api.Bisect{}, err
	}
	if b, readErr := desk.OneBisect(ctx, id); readErr != nil || err == nil {
		return b, readErr
	}
	return api.Bisect{}, api.Errorf(api.Conflict, "search %s has ended already", id)
}

// stepBisects brings every search on by what is known now.
func (desk *Desk) stepBisects() {
	if !desk.searching.TryLock() {
		return
	}
	ctx := context.Background()
	rows, err := desk.store.Bisects(ctx, true, maxOpenBisects)
	if err != nil || len(rows) == 0 {
		desk.searching.Unlock()
		if err != nil && !errors.Is(err, store.ErrClosed) {
			desk.log.Error("searches cannot be read", "error", err)
		}
		return
	}
	desk.tasks.Go(func() {
		defer desk.searching.Unlock()
		for _, row := range rows {
			if err := desk.stepBisect(ctx, row); err != nil && !errors.Is(err, store.ErrClosed) {
				desk.log.Error("search", "search", row.ID, "error", err)
				desk.endBisect(row.ID, api.BisectAnswer{Kind: bisect.Undecided, Words: err.Error()})
			}
		}
	})
}

func (desk *Desk) endBisect(id string, a api.BisectAnswer) {
	if err := desk.store.Enqueue(store.EndBisect(id, store.JSON(a), store.Millis(desk.now()))).Wait(); err != nil &&
		!errors.Is(err, store.ErrGuard) && !errors.Is(err, store.ErrClosed) {
		desk.log.Error("search", "search", id, "error", err)
	}
}

// stepBisect reads what the try that ran last has said, and ends the search or starts the
// next try.
func (desk *Desk) stepBisect(ctx context.Context, row store.Bisect) error {
	b, s, err := desk.bisectOf(ctx, row)
	if err != nil {
		return err
	}
	if n := len(b.Tries); n > 0 && b.Tries[n-1].Verdict == "" {
		last := &b.Tries[n-1]
		run, err := desk.records.Run(ctx, last.Run)
		if err != nil {
			return err
		}
		if run.State != api.Ended {
			return nil
		}
		c := run.Cells[0][0]
		last.Verdict, last.Session = c.Verdict, c.Session
		err = desk.store.Enqueue(store.SaveBisectTry(store.BisectTry{Bisect: row.ID, Place: n - 1,
			Candidate: slices.Index(s.Candidates, last.Candidate), Run: last.Run, Verdict: string(c.Verdict), Session: c.Session})).Wait()
		if err != nil {
			return err
		}
	}
	left, outcomes := weighed(b)
	if len(left) < 2 {
		desk.endBisect(row.ID, api.BisectAnswer{Kind: bisect.Undecided,
			Words: fmt.Sprintf("of %d candidates too few could be tried: the lab failed, not the test", len(s.Candidates))})
		return nil
	}
	if a := bisect.Ask(len(left), outcomes, s.Sure, s.Most); a.Kind != bisect.Open {
		desk.endBisect(row.ID, inWords(b, left, a))
		return nil
	} else if len(b.Tries) >= s.Most+maxFaults*len(s.Candidates) {
		return fmt.Errorf("%d tries are used up", len(b.Tries))
	} else {
		return desk.try(ctx, row, s, slices.Index(s.Candidates, left[a.Next]), len(b.Tries))
	}
}

// weighed are the candidates that can be tried, and what tries have said of them.
func weighed(b api.Bisect) (left []string, out []bisect.Outcome) {
	faults := map[string]int{}
	said := func(v verdict.Verdict) bool { return v == verdict.Passed || v == verdict.Failed }
	for _, t := range b.Tries {
		if !said(t.Verdict) {
			faults[t.Candidate]++
		}
	}
	for _, c := range b.Candidates {
		if faults[c] < maxFaults {
			left = append(left, c)
		}
	}
	for _, t := range b.Tries {
		if at := slices.Index(left, t.Candidate); at >= 0 && said(t.Verdict) {
			out = append(out, bisect.Outcome{At: at, Failed: t.Verdict == verdict.Failed})
		}
	}
	return left, out
}

// try starts a run of one test in one combination.
func (desk *Desk) try(ctx context.Context, row store.Bisect, s search, candidate, place int) error {
	req := s.Request
	values := maps.Clone(s.Values)
	if s.Axis == api.ByVersion {
		values["version"] = s.Candidates[candidate]
	} else {
		req.Bundle = s.Candidates[candidate]
	}
	var err error
	if req.Secrets, err = desk.seal.Open(row.Secrets); err != nil {
		return err
	}
	o, _, err := desk.unpack(req)
	if err != nil {
		return err
	}
	d, err := o.project.Profile(values)
	if err != nil {
		return api.Errorf(api.Invalid, "%v", err)
	}
	past, err := desk.past(ctx, o.project.Name, o.suite.Name)
	if err != nil {
		return err
	}
	c := combo.Of(values)
	o.again, o.plan.Combinations = row.Run, []combo.Combination{c}
	dealt, seconds := make([]bool, len(o.cases)), make([]float64, len(o.cases))
	for j, t := range o.cases {
		dealt[j], seconds[j] = true, past.book.Seconds(t.Name, c.Key, values["browser"])
	}
	o.dealt, o.devices, o.seconds = append(o.dealt, dealt), append(o.devices, d), append(o.seconds, seconds)
	o.mark = func(run int) store.Stmt {
		return store.SaveBisectTry(store.BisectTry{Bisect: row.ID, Place: place, Candidate: candidate, Run: run})
	}
	_, err = desk.start(api.Who{Name: row.By, Owner: row.By}, o)
	return err
}

// inWords says what a search found.
func inWords(b api.Bisect, left []string, a bisect.Answer) api.BisectAnswer {
	out := api.BisectAnswer{Kind: a.Kind, Sure: a.Sure}
	short := func(c string) string {
		if b.Axis == api.ByBundle {
			return "bundle " + c[:min(12, len(c))]
		}
		return c
	}
	failed, tried := 0, 0
	for _, t := range b.Tries {
		if t.Verdict == verdict.Failed {
			failed++
		}
		if t.Verdict == verdict.Failed || t.Verdict == verdict.Passed {
			tried++
		}
	}
	newest := func(c string, v verdict.Verdict) *api.BisectTry {
		for i := len(b.Tries) - 1; i >= 0; i-- {
			if t := b.Tries[i]; t.Candidate == c && t.Verdict == v {
				return &t
			}
		}
		return nil
	}
	from, to := short(left[0]), short(left[len(left)-1])
	switch a.Kind {
	case bisect.Found, bisect.Mended:
		out.Last, out.First = left[a.At-1], left[a.At]
		before, after, words := verdict.Passed, verdict.Failed, "passes up to %s, fails from %s"
		if a.Kind == bisect.Mended {
			before, after, words = verdict.Failed, verdict.Passed, "fails up to %s, passes from %s"
		}
		out.Words = fmt.Sprintf(words, short(out.Last), short(out.First))
		out.LastTry, out.FirstTry = newest(out.Last, before), newest(out.First, after)
	case bisect.Everywhere:
		out.Words = fmt.Sprintf("fails everywhere, from %s to %s", from, to)
	case bisect.Nowhere:
		out.Words = fmt.Sprintf("fails nowhere, from %s to %s", from, to)
	case bisect.Random:
		out.Words = fmt.Sprintf("fails at random, in %d of %d tries from %s to %s: no version decides it", failed, tried, from, to)
		if b.Axis == api.ByBundle {
			out.Words = strings.Replace(out.Words, "no version", "no bundle", 1)
		}
	default:
		out.Words = fmt.Sprintf("%d tries did not decide it: give more with --most", tried)
	}
	if a.Kind != bisect.Undecided {
		out.Words += fmt.Sprintf(" (%.1f %% sure after %d tries)", 100*a.Sure, tried)
	}
	return out
}
