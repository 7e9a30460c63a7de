package results

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// Bounds of what is looked at and said.
const (
	maxPaced   = 300_000
	maxLongest = 20
	maxOver    = 10_000
	lagRuns    = 5     // newest runs of a suite
	maxLagging = 3_000 // attempts of these whose steps are looked at
)

// Slow says, suite by suite, what became slower, what takes long, and which combinations
// are slow.
func (r *Results) Slow(ctx context.Context, f api.SlowFilter) ([]api.Slow, error) {
	if f.Runs <= 0 {
		f.Runs = 30
	}
	f.Runs = min(f.Runs, 100)
	suites, err := r.store.Suites(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Slow{}
	for _, x := range suites {
		if f.Project != "" && x.Project != f.Project || f.Suite != "" && x.Suite != f.Suite ||
			f.Among != nil && !slices.Contains(f.Among, x.Project) {
			continue
		}
		s, err := r.slowOf(ctx, x.Project, x.Suite, f)
		if err != nil {
			return nil, err
		}
		if s.Runs > 0 {
			out = append(out, s)
		}
	}
	return out, nil
}

// overLimits gathers steps that took longer than their limits, those that did most often
// first.
func overLimits(rows []store.Over, text string) []api.SlowStep {
	at := map[[2]string]int{}
	out := []api.SlowStep{}
	for _, o := range rows {
		if !strings.Contains(strings.ToLower(o.Test), text) {
			continue
		}
		k := [2]string{o.Test, o.Title}
		i, known := at[k]
		if !known {
			i = len(out)
			at[k] = i
			out = append(out, api.SlowStep{Test: o.Test, Title: o.Title, LimitMS: o.OverMS, Run: o.Run, Pane: o.Pane, Place: o.Place})
		}
		x := &out[i]
		if x.Times++; o.TookMS > x.WorstMS {
			x.WorstMS, x.On = o.TookMS, o.Label
		}
	}
	slices.SortStableFunc(out, func(a, b api.SlowStep) int { return cmp.Or(b.Times-a.Times, cmp.Compare(b.WorstMS, a.WorstMS)) })
	return out[:min(len(out), maxLongest)]
}

func (r *Results) slowOf(ctx context.Context, project, suite string, f api.SlowFilter) (api.Slow, error) {
	out := api.Slow{Project: project, Suite: suite, Turns: []api.SlowTest{}, Longest: []api.SlowTest{}, Over: []api.SlowStep{},
		Lags: []api.SlowPlace{}, Paces: []triage.Pace{}}
	const newest = 1 << 31
	from, err := r.store.NthBefore(ctx, project, suite, newest, f.Runs)
	if err != nil {
		return out, err
	}
	rows, err := r.store.Paced(ctx, project, suite, from, maxPaced)
	if err != nil {
		return out, err
	}
	byTest, runs, bundles := map[string][]triage.Took{}, map[int]bool{}, map[int]string{}
	for _, t := range rows {
		byTest[t.Test] = append(byTest[t.Test], triage.Took{Run: t.Run, Pane: t.Label, MS: t.TookMS})
		runs[t.Run], bundles[t.Run] = true, t.Bundle
	}
	out.Runs = len(runs)
	text := strings.ToLower(f.Text)
	over, err := r.store.OverLimits(ctx, project, suite, from, maxOver)
	if err != nil {
		return out, err
	}
	out.Over = overLimits(over, text)
	for test, all := range byTest {
		if !strings.Contains(strings.ToLower(test), text) {
			continue
		}
		x := slowTest(test, all)
		if turn, sure := triage.TurnOf(all); sure {
			x.Turn, x.Bundle = &turn, bundles[turn.Run]
			out.Turns = append(out.Turns, x)
		}
		out.Longest = append(out.Longest, x)
	}
	slices.SortFunc(out.Turns, func(a, b api.SlowTest) int {
		return cmp.Or(cmp.Compare(b.Turn.IsMS-b.Turn.WasMS, a.Turn.IsMS-a.Turn.WasMS), cmp.Compare(a.Test, b.Test))
	})
	slices.SortFunc(out.Longest, func(a, b api.SlowTest) int { return cmp.Or(cmp.Compare(b.MS, a.MS), cmp.Compare(a.Test, b.Test)) })
	out.Paces = triage.Paces(byTest)
	longest := make([]string, 0, len(out.Longest))
	for _, x := range out.Longest[:min(len(out.Longest), max(1, maxLagging/max(1, lagRuns*len(out.Paces))))] {
		longest = append(longest, x.Test)
	}
	out.Longest = out.Longest[:min(maxLongest, len(out.Longest))]
	out.Lags, err = r.lags(ctx, project, suite, longest)
	return out, err
}

// lags finds the steps of some tests that take much longer in some combinations than in the
// others, over the newest runs of their suite.
func (r *Results) lags(ctx context.Context, project, suite string, tests []string) ([]api.SlowPlace, error) {
	rows, err := r.store.StepsOf(ctx, project, suite, tests, lagRuns, maxLagging)
	if err != nil {
		return nil, err
	}
	var all []triage.StepTook
	at := map[[2]string]store.StepsIn{} // the newest, by test and label
	for _, row := range rows {
		d, err := walls.Unpack(row.Detail)
		if err != nil {
			return nil, fmt.Errorf("records of run %d: %w", row.Run, err)
		}
		if _, newer := at[[2]string{row.Test, row.Label}]; !newer {
			at[[2]string{row.Test, row.Label}] = row
		}
		nth := map[string]int{}
		for _, s := range d.Steps {
			if s.State == attempt.Passed {
				all = append(all, triage.StepTook{Test: row.Test, Step: s.Title, Nth: nth[s.Title], Pane: row.Label, MS: s.TookMS})
			}
			nth[s.Title]++
		}
	}
	out := []api.SlowPlace{}
	for _, l := range triage.Lags(all) {
		x := at[[2]string{l.Test, l.Panes[0]}]
		if out = append(out, api.SlowPlace{Lag: l, Run: x.Run, Pane: x.Pane, Place: x.Place}); len(out) == maxLongest {
			break
		}
	}
	return out, nil
}

// slowTest is a test with its median over everything, and run by run.
func slowTest(test string, all []triage.Took) api.SlowTest {
	x := api.SlowTest{Test: test, Series: []api.SlowPoint{}}
	byRun := map[int][]int64{}
	var whole []int64
	for _, t := range all {
		byRun[t.Run] = append(byRun[t.Run], t.MS)
		whole = append(whole, t.MS)
	}
	x.MS = middle(whole)
	for run, ms := range byRun {
		x.Series = append(x.Series, api.SlowPoint{Run: run, MS: middle(ms)})
	}
	slices.SortFunc(x.Series, func(a, b api.SlowPoint) int { return cmp.Compare(a.Run, b.Run) })
	return x
}

func middle(of []int64) int64 {
	s := slices.Sorted(slices.Values(of))
	return s[len(s)/2]
}

// Recent lists the newest ended runs of suites since a moment, with what their failures
// come from, and the lab faults of a day by agent; of the projects that are given, nil
// meaning every one.
func (r *Results) Recent(ctx context.Context, among []string, since, day int64) (suites []api.OverviewSuite, faults []api.AgentFaults,
	err error) {
	numbers, err := r.store.NewestOfSuites(ctx, since, 3*maxSuites)
	if err != nil {
		return nil, nil, err
	}
	suites = []api.OverviewSuite{}
	for _, n := range numbers {
		v, revised, err := r.whole(ctx, n)
		if err != nil {
			return nil, nil, err
		}
		if among != nil && !slices.Contains(among, v.Project) || len(suites) == maxSuites {
			continue
		}
		x, err := r.recent(ctx, v, revised, day)
		if err != nil {
			return nil, nil, err
		}
		suites = append(suites, x)
	}
	rows, err := r.store.FaultsOf(ctx, day)
	if err != nil {
		return nil, nil, err
	}
	faults = []api.AgentFaults{}
	for _, f := range rows {
		if among != nil && !slices.Contains(among, f.Project) {
			continue
		}
		if i := slices.IndexFunc(faults, func(o api.AgentFaults) bool { return o.Agent == f.Agent }); i >= 0 {
			faults[i].Faults += f.Count
		} else {
			faults = append(faults, api.AgentFaults{Agent: f.Agent, Faults: f.Count})
		}
	}
	return suites, faults, nil
}

// Bounds of an overview.
const (
	maxSuites = 8
	maxShown  = 3
)

func (r *Results) recent(ctx context.Context, v *api.Run, revised int, day int64) (api.OverviewSuite, error) {
	x := api.OverviewSuite{Run: v.RunSummary, Causes: []api.Cause{}}
	all, err := r.causesOf(ctx, v, revised)
	if err != nil {
		return x, err
	}
	fresh := func(c api.Cause) int {
		if c.First == nil || c.First.At == nil || c.First.At.UnixMilli() >= day {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(all.Causes, func(a, b api.Cause) int { return cmp.Compare(fresh(a), fresh(b)) })
	for i, c := range all.Causes {
		x.Fresh += 1 - fresh(c)
		if i < maxShown {
			x.Causes = append(x.Causes, c)
		}
	}
	x.More = len(all.Causes) - len(x.Causes)
	return x, nil
}
