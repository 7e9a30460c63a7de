package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/script"
	"parallelpane/internal/store"
)

// Why answers who can run what.
type Why struct {
	Needs fleet.Needs `json:"needs"`
	fleet.Answer
	Nearest []string            `json:"nearest" description:"agents that do not match, those that lack least first"`
	Why     string              `json:"why" description:"when nobody can: the nearest agents and what each lacks, in a sentence"`
	Facts   map[string][]string `json:"facts" description:"every fact there is in the fleet and its values, to choose from"`
}

// Ask says which agents can do work with these needs.
func (s *Service) Ask(words []string, projectName string) (Why, error) {
	needs, err := fleet.ParseNeeds(words)
	if err != nil {
		return Why{}, errorf(Invalid, "%v", err)
	}
	lab := s.lab(projectName)
	if _, asked := needs["pool"]; !asked && projectName != "" {
		needs = needs.With(fleet.NeedsOf(projectName, nil))
	}
	w := Why{Needs: needs, Answer: fleet.Ask(needs, lab.Members), Facts: map[string][]string{}}
	w.Nearest, w.Why = w.Answer.Nearest(), w.Answer.Explain(needs)
	for _, m := range lab.Members {
		for fact, values := range m.Facts {
			for _, v := range values {
				if !slices.Contains(w.Facts[fact], v) {
					w.Facts[fact] = append(w.Facts[fact], v)
				}
			}
		}
	}
	for _, values := range w.Facts {
		slices.SortFunc(values, combo.CompareVersions)
	}
	for fact := range needs {
		if _, known := w.Facts[fact]; !known && w.Why != "" {
			w.Why += fmt.Sprintf("; no agent has a fact called %s, there are %s", fact, strings.Join(slices.Sorted(maps.Keys(w.Facts)), ", "))
		}
	}
	return w, nil
}

// PlannedMatrix is a matrix's plan in the lab as it is.
type PlannedMatrix struct {
	combo.Plan
	Agents [][]string `json:"agents" description:"for each combination, the agents that could run it"`
}

// PlanMatrix plans a matrix against the fleet.
func (s *Service) PlanMatrix(m combo.Matrix, projectName string) (PlannedMatrix, error) {
	lab := s.lab(projectName)
	p, err := m.Plan(lab)
	if err != nil {
		return PlannedMatrix{}, errorf(Invalid, "%v", err)
	}
	out := PlannedMatrix{Plan: p, Agents: make([][]string, len(p.Combinations))}
	for i, c := range p.Combinations {
		needs := fleet.NeedsOf(projectName, c.Values)
		for _, a := range lab.Members {
			if fleet.Match(needs, a.Facts) == nil {
				out.Agents[i] = append(out.Agents[i], a.Name)
			}
		}
	}
	return out, nil
}

// Preview says what a request would come to if it were started now.
type Preview struct {
	Project      string              `json:"project"`
	Suite        string              `json:"suite"`
	Matrix       string              `json:"matrix"`
	Environment  string              `json:"environment"`
	Suites       []string            `json:"suites" description:"those of the bundle's project"`
	Matrices     []combo.Matrix      `json:"matrices"`
	Environments []string            `json:"environments"`
	Tags         []string            `json:"tags"`
	Tests        []string            `json:"tests"`
	Request      RunRequest          `json:"request" description:"with its defaults filled in"`
	Combinations []combo.Combination `json:"combinations"`
	Missing      []combo.Missing     `json:"missing"`
	Cases        int                 `json:"cases" description:"tests dealt to panes"`
	Unknown      int                 `json:"unknown" description:"of those, how many have no estimate"`
	ExpectedS    float64             `json:"expected_s" description:"seconds until it would end if it were started now; 0 when it would not end as things are"`
	Met          Met                 `json:"met"`
}

// Preview works a request out without starting it.
func (s *Service) Preview(ctx context.Context, who Who, req RunRequest) (Preview, error) {
	o, err := s.order(ctx, req)
	if err != nil {
		return Preview{}, err
	}
	p := Preview{Project: o.project.Name, Suite: o.suite.Name, Matrix: o.req.Matrix, Environment: o.env.Name, Combinations: o.plan.Combinations,
		Missing: o.plan.Missing[:min(maxMissing, len(o.plan.Missing))], Matrices: o.project.Matrices, Request: o.req}
	for _, x := range o.project.Suites {
		p.Suites = append(p.Suites, x.Name)
	}
	for _, x := range o.project.Environments {
		p.Environments = append(p.Environments, x.Name)
	}
	for _, x := range o.scripts {
		p.Tests = append(p.Tests, x.Name)
		p.Tags = append(p.Tags, x.Tags...)
	}
	slices.Sort(p.Tags)
	p.Tags = slices.Compact(p.Tags)
	for i, row := range o.dealt {
		for j, dealt := range row {
			if dealt && o.plan.Combinations[i].Impossible == "" {
				p.Cases++
				if o.seconds[i][j] == 0 {
					p.Unknown++
				}
			}
		}
	}
	row, panes, tests := o.records(0, who, 0)
	view, err := runOf(row, store.Whole{Panes: panes, Tests: tests})
	if err != nil {
		return p, err
	}
	work := workOf(&liveRun{view: view, seconds: o.seconds})
	for i, c := range o.plan.Combinations {
		for j := range work.Panes[i].Tests {
			work.Panes[i].Tests[j].Settled = work.Panes[i].Tests[j].Settled || c.Impossible != ""
		}
	}
	s.mu.Lock()
	outline := s.machine.Outline(s.now())
	s.mu.Unlock()
	outline.Runs = append(outline.Runs, work)
	p.ExpectedS = plan.Expect(outline, s.guess(ctx))[work.ID]
	p.Met, err = s.metOfLate(ctx, o)
	return p, err
}

// Met is how much of a wall the last runs have met.
type Met struct {
	Runs  int `json:"runs" description:"how many of the last runs were looked at"`
	Pairs int `json:"pairs" description:"of a test and a combination on the wall"`
	Met   int `json:"met" description:"of those, how many had a verdict of their own in these runs"`
}

// metRuns is how many runs back a wall is looked at.
const metRuns = 20

// met looks at the runs up to one, however long ago that was.
func (s *Service) met(ctx context.Context, run Run) (Met, error) {
	pairs, err := s.store.Met(ctx, run.Project, run.Suite, run.Matrix, run.Number, metRuns)
	if err != nil {
		return Met{}, err
	}
	m, on := metOn(names(run.Tests, func(t Test) string { return t.Name }), names(run.Panes, func(p Pane) string { return p.Key }))
	for _, p := range pairs {
		if on(p.Test, p.Key) {
			m.Met++
		}
	}
	return m, nil
}

// metOfLate looks at the newest runs of an order's suite, by what is noted of each
// pair: it costs the same however much there is on record.
func (s *Service) metOfLate(ctx context.Context, o *order) (Met, error) {
	first, err := s.store.RunBefore(ctx, o.project.Name, o.suite.Name, o.req.Matrix, metRuns)
	if err != nil {
		return Met{}, err
	}
	m, on := metOn(names(o.scripts, func(t *script.Script) string { return t.Name }),
		names(o.plan.Combinations, func(c combo.Combination) string { return c.Key }))
	for _, e := range o.past.rows {
		if e.LastRun > 0 && e.LastRun >= first && on(e.Test, e.Key) {
			m.Met++
		}
	}
	return m, nil
}

// metOn is a wall of which nothing is met yet; on says whether a pair is on it.
func metOn(tests, panes map[string]bool) (m Met, on func(test, key string) bool) {
	return Met{Runs: metRuns, Pairs: len(tests) * len(panes)}, func(test, key string) bool { return tests[test] && panes[key] }
}

func names[T any](all []T, name func(T) string) map[string]bool {
	out := map[string]bool{}
	for _, x := range all {
		out[name(x)] = true
	}
	return out
}

// Timeline is when what of a run ran where.
type Timeline struct {
	RunSummary
	Slots      []TimelineSlot `json:"slots"`
	BoundS     float64        `json:"lower_bound_s" description:"no schedule could have ended it earlier, given what its attempts took and the slots it used"`
	MakespanS  float64        `json:"makespan_s"`
	Met        Met            `json:"met"`
	StartedMS  int64          `json:"started_ms" description:"milliseconds since 1970 at which the first attempt began"`
	Unfinished int            `json:"unfinished" description:"tests that have no verdict yet"`
}

// TimelineSlot is one slot of an agent.
type TimelineSlot struct {
	Agent string `json:"agent"`
	Slot  int    `json:"slot" description:"from 1"`
	Bars  []Bar  `json:"bars"`
}

// Bar is one attempt; bars of one lease belong to one slice.
type Bar struct {
	Pane    int             `json:"pane"`
	Label   string          `json:"label"`
	Test    int             `json:"test"`
	Name    string          `json:"name"`
	Attempt int             `json:"attempt"`
	Lease   int64           `json:"lease"`
	Verdict verdict.Verdict `json:"verdict"`
	StartMS int64           `json:"start_ms" description:"since the run's first attempt began"`
	TookMS  int64           `json:"took_ms"`
}

// Timeline draws a run's attempts onto the slots of its agents. Leases of one
// agent that overlap get slots of their own.
func (s *Service) Timeline(ctx context.Context, number int) (Timeline, error) {
	run, err := s.Run(ctx, number)
	if err != nil {
		return Timeline{}, err
	}
	spans, err := s.store.Spans(ctx, run.Number)
	if err != nil {
		return Timeline{}, err
	}
	t := Timeline{RunSummary: run.RunSummary, Unfinished: run.Counts[verdict.Pending]}
	if len(spans) > 0 {
		t.StartedMS = spans[0].StartedAt
	}
	slotOf, until := map[int64]int{}, map[int]int64{}
	q := plan.Question{}
	for _, x := range spans {
		i, known := slotOf[x.Fence]
		if !known {
			i = -1
			for k, o := range t.Slots {
				if o.Agent == x.Agent && until[k] <= x.StartedAt {
					i = k
					break
				}
			}
			if i < 0 {
				n := 1
				for _, o := range t.Slots {
					if o.Agent == x.Agent {
						n++
					}
				}
				i = len(t.Slots)
				t.Slots = append(t.Slots, TimelineSlot{Agent: x.Agent, Slot: n})
			}
			slotOf[x.Fence] = i
		}
		end := x.StartedAt + x.TookMS
		until[i] = max(until[i], end)
		t.Slots[i].Bars = append(t.Slots[i].Bars, Bar{x.Pane, run.Panes[x.Pane].Label, x.Test, run.Tests[x.Test].Name, x.Number, x.Fence,
			verdict.Verdict(x.Verdict), x.StartedAt - t.StartedMS, x.TookMS})
		t.MakespanS = max(t.MakespanS, float64(end-t.StartedMS)/1000)
		q.Tests = append(q.Tests, plan.Test{ID: fmt.Sprint(len(q.Tests)), Seconds: float64(x.TookMS) / 1000, Needs: run.Panes[x.Pane].Needs})
	}
	t.BoundS = plan.Bound(q.Tests, s.hosts(t.Slots), run.Request.Limit)
	slices.SortStableFunc(t.Slots, func(a, b TimelineSlot) int { return strings.Compare(a.Agent, b.Agent) })
	t.Met, err = s.met(ctx, run)
	return t, err
}

// hosts are the agents of slots, with as many slots as were used.
func (s *Service) hosts(slots []TimelineSlot) (out []dispatch.Agent) {
	used := map[string]int{}
	for _, x := range slots {
		used[x.Agent] = max(used[x.Agent], x.Slot)
	}
	for _, m := range s.lab("").Members {
		if n := used[m.Name]; n > 0 {
			out = append(out, dispatch.Agent{Name: m.Name, Facts: m.Facts, Slots: n})
		}
	}
	return out
}

// ForecastRequest asks for a forecast: of given tests and agents, or of a run
// with the durations it had on the fleet that is online.
type ForecastRequest struct {
	Question *json.RawMessage `json:"question,omitempty" description:"tests, agents, known_durations and limit"`
	Run      int              `json:"run,omitempty" description:"number of a run whose tests are to be forecast instead"`
	Limit    int              `json:"limit,omitempty" minimum:"0" description:"most slots at once; 0 means all"`
	More     []int            `json:"more,omitempty" description:"also forecast with so many more agents, at most 12 numbers"`
}

// ForecastAnswer is a forecast with what-ifs.
type ForecastAnswer struct {
	plan.Forecast
	WhatIf []plan.Knee `json:"what_if"`
	Knee   int         `json:"knee" description:"agents beyond which each further one saves little; 0 when nothing was asked"`
}

// Forecast makes a forecast.
func (s *Service) Forecast(ctx context.Context, req ForecastRequest) (ForecastAnswer, error) {
	var out ForecastAnswer
	var q plan.Question
	var err error
	switch {
	case (req.Question == nil) == (req.Run == 0):
		return out, errorf(Invalid, "expected either a question or the number of a run")
	case len(req.More) > 12:
		return out, errorf(Invalid, "more: expected at most 12 numbers, found %d", len(req.More))
	case req.Question != nil:
		q, err = plan.Decode(*req.Question)
	default:
		q, err = s.questionOf(ctx, req.Run)
	}
	if err != nil {
		if _, ok := err.(*Error); ok {
			return out, err
		}
		return out, errorf(Invalid, "%v", err)
	}
	if req.Limit > 0 {
		q.Limit = req.Limit
	}
	for _, n := range req.More {
		if n < 0 || n > 500 {
			return out, errorf(Invalid, "more: expected numbers from 0 to 500, found %d", n)
		}
	}
	if out.Forecast, err = q.Run(); err != nil {
		return out, errorf(Invalid, "%v", err)
	}
	if len(req.More) > 0 {
		if out.WhatIf, out.Knee, err = q.WhatIf(req.More); err != nil {
			return out, errorf(Invalid, "%v", err)
		}
	}
	return out, nil
}

// questionOf asks what a run would take now, with the durations it had.
func (s *Service) questionOf(ctx context.Context, number int) (plan.Question, error) {
	run, err := s.Run(ctx, number)
	if err != nil {
		return plan.Question{}, err
	}
	q := plan.Question{Known: true, Limit: run.Request.Limit}
	for i, p := range run.Panes {
		for j, t := range run.Tests {
			if c := run.Cells[i][j]; c.TookMS > 0 {
				q.Tests = append(q.Tests, plan.Test{ID: p.Label + ": " + t.Name, Seconds: float64(c.TookMS) / 1000, Needs: p.Needs, Locks: t.Locks})
			}
		}
	}
	if len(q.Tests) == 0 {
		return q, errorf(Conflict, "run %d has no test with a duration yet", number)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range s.machine.Members() {
		if m.Away == "" {
			q.Agents = append(q.Agents, plan.Host{Name: m.Name, Slots: s.machine.Load(m.Name).Slots, Facts: m.Facts})
		}
	}
	if len(q.Agents) == 0 {
		return q, errorf(Conflict, "no agent takes work now: a forecast needs a fleet")
	}
	return q, nil
}

// KnownSuite is a suite that was run or saved before, with its latest files.
type KnownSuite struct {
	Project string     `json:"project"`
	Suite   string     `json:"suite"`
	Bundle  string     `json:"bundle"`
	At      *time.Time `json:"at" description:"when these files were last used"`
}

// Suites lists the suites that can be run without sending files.
func (s *Service) Suites(ctx context.Context) ([]KnownSuite, error) {
	rows, err := s.store.Suites(ctx)
	out := []KnownSuite{}
	for _, r := range rows {
		out = append(out, KnownSuite{r.Project, r.Suite, r.Bundle, at(r.At)})
	}
	return out, err
}
