package plan

import (
	"bytes"
	"cmp"
	"container/heap"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

// Test is a test of a forecast.
type Test struct {
	ID      string      `json:"id"`
	Seconds float64     `json:"seconds" description:"how long it takes"`
	Needs   fleet.Needs `json:"needs" description:"what it asks of an agent"`
	Locks   []string    `json:"locks,omitempty"`
}

// Host is an agent of a forecast.
type Host struct {
	Name  string      `json:"name"`
	Slots int         `json:"slots"`
	Facts fleet.Facts `json:"facts"`
}

// Question is what a forecast is asked.
type Question struct {
	Tests  []Test `json:"tests"`
	Agents []Host `json:"agents"`
	Known  bool   `json:"known_durations" description:"whether the scheduler knows the durations beforehand, as it does from history"`
	Limit  int    `json:"limit,omitempty" description:"most slots at once; 0 means all"`
}

// Limits of a question.
const (
	MaxTests  = 200_000
	MaxAgents = 5_000

	maxMatches = 2_000_000 // of needs with agents
)

// Forecast is how a run would go.
type Forecast struct {
	Makespan    float64      `json:"makespan_s"`
	LowerBound  float64      `json:"lower_bound_s" description:"no schedule could end earlier"`
	Utilisation float64      `json:"utilisation" description:"part of the slots' time, until the end, spent on tests"`
	Slots       []Slot       `json:"slots"`
	Impossible  []Impossible `json:"impossible" description:"tests that no agent could run; they count for nothing"`
}

// Slot is one slot of an agent and what it would do.
type Slot struct {
	Agent string   `json:"agent"`
	Slot  int      `json:"slot" description:"from 1"`
	Busy  float64  `json:"busy_s"`
	Tests []Placed `json:"tests"`
}

// Placed is a test with its time.
type Placed struct {
	ID    string  `json:"id"`
	Start float64 `json:"start_s"`
	End   float64 `json:"end_s"`
}

// Impossible is a test that no agent could run.
type Impossible struct {
	ID  string `json:"id"`
	Why string `json:"why"`
}

// values of a fact or need may be one string or a list of them.
type values map[string][]string

func (v *values) UnmarshalJSON(raw []byte) error {
	var loose map[string]json.RawMessage
	if err := json.Unmarshal(raw, &loose); err != nil {
		return err
	}
	*v = values{}
	for key, item := range loose {
		var one string
		var many []string
		if json.Unmarshal(item, &one) == nil {
			many = []string{one}
		} else if err := json.Unmarshal(item, &many); err != nil {
			return fmt.Errorf("%s: expected a string or a list of strings", key)
		}
		(*v)[key] = many
	}
	return nil
}

// UnmarshalJSON takes needs whose values are strings or lists of strings.
func (t *Test) UnmarshalJSON(raw []byte) error {
	type plain Test
	var got struct {
		plain
		Needs values `json:"needs"`
	}
	if err := json.Unmarshal(raw, &got); err != nil {
		return err
	}
	*t = Test(got.plain)
	t.Needs = fleet.Needs(got.Needs)
	return nil
}

// UnmarshalJSON takes facts whose values are strings or lists of strings.
func (h *Host) UnmarshalJSON(raw []byte) error {
	type plain Host
	var got struct {
		plain
		Facts values `json:"facts"`
	}
	if err := json.Unmarshal(raw, &got); err != nil {
		return err
	}
	*h = Host(got.plain)
	h.Facts = fleet.Facts(got.Facts)
	return nil
}

// Check says what is wrong with a question.
func (q Question) Check() error {
	switch {
	case len(q.Tests) == 0:
		return fmt.Errorf("tests: expected at least one")
	case len(q.Tests) > MaxTests || len(q.Agents) > MaxAgents:
		return fmt.Errorf("a forecast takes at most %d tests and %d agents", MaxTests, MaxAgents)
	case len(q.Agents) == 0:
		return fmt.Errorf("agents: expected at least one")
	case q.Limit < 0:
		return fmt.Errorf("limit: expected 0 or more")
	}
	ids, names := map[string]bool{}, map[string]bool{}
	for i, t := range q.Tests {
		switch {
		case t.ID == "" || ids[t.ID]:
			return fmt.Errorf("tests[%d].id: %q is empty or taken", i, t.ID)
		case !(t.Seconds >= 0 && t.Seconds < 1e7):
			return fmt.Errorf("tests[%d].seconds: expected 0 to 10000000, found %v", i, t.Seconds)
		}
		ids[t.ID] = true
		for fact, want := range t.Needs {
			for _, w := range want {
				if err := fleet.CheckWant(fact, w); err != nil {
					return fmt.Errorf("tests[%d].needs: %w", i, err)
				}
			}
		}
	}
	for i, a := range q.Agents {
		if a.Name == "" || names[a.Name] {
			return fmt.Errorf("agents[%d].name: %q is empty or taken", i, a.Name)
		}
		names[a.Name] = true
		if a.Slots < 1 || a.Slots > 1000 {
			return fmt.Errorf("agents[%d].slots: expected 1 to 1000, found %d", i, a.Slots)
		}
	}
	kinds := map[string]bool{}
	for _, t := range q.Tests {
		kinds[t.Needs.String()] = true
	}
	if n := len(kinds) * len(q.Agents); n > maxMatches {
		return fmt.Errorf("tests have %d different needs, which are to be matched with %d agents each: at most %d matches are made",
			len(kinds), len(q.Agents), maxMatches)
	}
	return nil
}

// start is the moment at which virtual time begins.
var start = time.Unix(0, 0).UTC()

// Run makes the forecast: it dispatches the tests on the agents in virtual time. It gives
// up when its context ends.
func (q Question) Run(ctx context.Context) (Forecast, error) {
	f := Forecast{Slots: []Slot{}, Impossible: []Impossible{}}
	if err := q.Check(); err != nil {
		return f, err
	}
	agents := q.agents()
	possible, err := q.possible(ctx, agents, &f)
	if err != nil {
		return f, err
	}
	run := dispatch.Run{ID: "forecast", Limit: q.Limit}
	panes := map[string]int{}
	var ids [][]int // of the possible tests, by pane
	for k, t := range possible {
		key := t.Needs.String()
		i, ok := panes[key]
		if !ok {
			i = len(run.Panes)
			panes[key] = i
			run.Panes = append(run.Panes, dispatch.Pane{Needs: t.Needs})
			ids = append(ids, nil)
		}
		d := dispatch.Test{Locks: t.Locks}
		if q.Known {
			d.Seconds = t.Seconds
		}
		run.Panes[i].Tests = append(run.Panes[i].Tests, d)
		ids[i] = append(ids[i], k)
	}
	sim := newSimulation(agents, func(_ string, pane, test int) float64 { return possible[ids[pane][test]].Seconds })
	sim.follow(sim.m.Submit(sim.now, run))
	ended, err := sim.run(ctx)
	if err != nil {
		return f, err
	}
	if !ended {
		return f, fmt.Errorf("the forecast does not end: some tests are never dealt out")
	}
	f.LowerBound = Bound(possible, agents, q.Limit)
	f.fill(sim, agents, func(p placing) string { return possible[ids[p.pane][p.test]].ID })
	return f, nil
}

func (q Question) agents() []dispatch.Agent {
	out := make([]dispatch.Agent, len(q.Agents))
	for i, h := range q.Agents {
		out[i] = dispatch.Agent{Name: h.Name, Slots: h.Slots, Facts: factsOf(h)}
	}
	return out
}

// factsOf gives an agent of a forecast the facts that every agent has.
func factsOf(h Host) fleet.Facts {
	facts := fleet.Facts{"agent": {h.Name}, "pool": {fleet.Shared}, "mode": {"headless"}}
	for k, v := range h.Facts {
		facts[k] = v
	}
	return facts
}

func (q Question) possible(ctx context.Context, agents []dispatch.Agent, f *Forecast) (out []Test, err error) {
	members := make([]fleet.Member, len(agents))
	for i, a := range agents {
		members[i] = fleet.Member{Name: a.Name, Facts: a.Facts}
	}
	why := map[string]string{}
	for _, t := range q.Tests {
		key := t.Needs.String()
		reason, known := why[key]
		if !known {
			if ctx.Err() != nil {
				return nil, tooLong(ctx)
			}
			reason = fleet.Ask(t.Needs, members).Explain(t.Needs)
			why[key] = reason
		}
		if reason != "" {
			f.Impossible = append(f.Impossible, Impossible{t.ID, reason})
		} else {
			out = append(out, t)
		}
	}
	return out, nil
}

func tooLong(ctx context.Context) error {
	return fmt.Errorf("the forecast takes too long: ask about fewer tests or agents, or needs that differ less (%w)", ctx.Err())
}

// fill writes what the simulation did into the slots of the agents.
func (f *Forecast) fill(sim *simulation, agents []dispatch.Agent, id func(placing) string) {
	first := map[string]int{}
	for _, a := range agents {
		first[a.Name] = len(f.Slots)
		for i := range a.Slots {
			f.Slots = append(f.Slots, Slot{Agent: a.Name, Slot: i + 1, Tests: []Placed{}})
		}
	}
	busy := 0.0
	for _, p := range sim.placed {
		s := &f.Slots[first[p.agent]+p.slot]
		s.Busy += p.end - p.start
		s.Tests = append(s.Tests, Placed{id(p), p.start, p.end})
		busy += p.end - p.start
		f.Makespan = max(f.Makespan, p.end)
	}
	if f.Makespan > 0 {
		f.Utilisation = busy / (f.Makespan * float64(len(f.Slots)))
	}
}

// Knee is a row of a what-if table.
type Knee struct {
	Agents   int            `json:"agents" description:"how many there would be"`
	Slots    int            `json:"slots"`
	Makespan float64        `json:"makespan_s"`
	Bound    float64        `json:"lower_bound_s"`
	Copies   map[string]int `json:"copies" description:"of which agents how many were added"`
}

// WhatIf forecasts with more agents; counts says how many, growing. Each is a
// copy of the agent that lowers the bound most. It returns a row for each count,
// and the number of agents at the knee: beyond it a further agent saves less
// than a tenth of what the first ones save.
func (q Question) WhatIf(ctx context.Context, counts []int) (rows []Knee, knee int, err error) {
	grown := q
	grown.Agents = slices.Clone(q.Agents)
	agents := q.agents()
	loads, slots, kindOf := loadsOf(q.Tests, agents)
	copies := map[string]int{}
	for _, n := range slices.Sorted(slices.Values(counts)) {
		for len(grown.Agents)-len(q.Agents) < n {
			i := helpful(loads, slots, kindOf, agents)
			h := q.Agents[i]
			slots[kindOf[i]] += h.Slots
			copies[h.Name]++
			h.Name = fmt.Sprintf("%s+%d", h.Name, copies[h.Name])
			grown.Agents = append(grown.Agents, h)
		}
		f, err := grown.Run(ctx)
		if err != nil {
			return nil, 0, err
		}
		rows = append(rows, Knee{len(grown.Agents), len(f.Slots), f.Makespan, f.LowerBound, maps.Clone(copies)})
	}
	best := 0.0
	for i := 1; i < len(rows); i++ {
		saved := (rows[i-1].Makespan - rows[i].Makespan) / float64(max(1, rows[i].Agents-rows[i-1].Agents))
		if best = max(best, saved); saved < best/10 || saved <= 0 {
			return rows, rows[i-1].Agents, nil
		}
	}
	if len(rows) > 0 {
		knee = rows[len(rows)-1].Agents
	}
	return rows, knee, nil
}

// helpful is the agent of which a copy lowers the bound most: of the kinds that
// can do what is tightest, the few with the most slots are looked at.
func helpful(loads []load, slots, kindOf []int, agents []dispatch.Agent) int {
	tight := map[int]bool{}
	for _, i := range hindered(loads, slots, bound(loads, slots, 0)*(1-1e-6)) {
		for _, k := range loads[i].kinds {
			tight[k] = true
		}
	}
	largest := map[int]int{}
	for i, k := range kindOf {
		if best, known := largest[k]; (tight[k] || len(tight) == 0) && (!known || agents[i].Slots > agents[best].Slots) {
			largest[k] = i
		}
	}
	choices := slices.Sorted(maps.Values(largest))
	slices.SortStableFunc(choices, func(i, j int) int { return cmp.Compare(agents[j].Slots, agents[i].Slots) })
	best, least := choices[0], math.Inf(1)
	for _, i := range choices[:min(len(choices), 8)] {
		slots[kindOf[i]] += agents[i].Slots
		if b := bound(loads, slots, 0); b < least {
			best, least = i, b
		}
		slots[kindOf[i]] -= agents[i].Slots
	}
	return best
}

// Expect forecasts when the runs of a machine will be over, in seconds from
// now, given what waits, what runs, and who takes work. Tests of unknown length
// count as typical. A run that cannot end as things are has no entry.
func Expect(o dispatch.Outline, typical float64) map[string]float64 {
	seconds := map[string][][]float64{}
	for i := range o.Runs {
		r := &o.Runs[i]
		for p := range r.Panes {
			row := make([]float64, len(r.Panes[p].Tests))
			for j := range row {
				if row[j] = r.Panes[p].Tests[j].Seconds; row[j] == 0 {
					row[j] = typical
				}
			}
			seconds[r.ID] = append(seconds[r.ID], row)
		}
	}
	sim := newSimulation(nil, func(run string, pane, test int) float64 { return seconds[run][pane][test] })
	sim.m.SetQuotas(sim.now, o.Quotas)
	held := map[string][]int64{}
	leases := map[string][]dispatch.Lease{}
	for _, h := range o.Leases {
		held[h.Agent] = append(held[h.Agent], h.Fence)
		l := h.Lease
		l.Tests = h.Left
		leases[h.Run] = append(leases[h.Run], l)
		if len(h.Left) > 0 {
			row := seconds[h.Run][h.Pane]
			row[h.Left[0]] = max(row[h.Left[0]]-h.Gone, 0.1*row[h.Left[0]]) // one that is over its time will not end at once
		}
	}
	for _, a := range o.Agents {
		sim.m.Know(sim.now, a)
	}
	for _, r := range o.Runs {
		sim.follow(sim.m.Restore(sim.now, r, leases[r.ID]))
	}
	for _, h := range o.Leases {
		l := h.Lease
		l.Tests = h.Left
		sim.take(l)
	}
	for _, a := range o.Agents {
		sim.follow(sim.m.Join(sim.now, a, held[a.Name]))
	}
	_, _ = sim.run(context.Background()) // the lab's own: it is bounded by what the lab takes
	return sim.over
}

// simulation drives a machine in virtual time.
type simulation struct {
	m       *dispatch.Machine
	now     time.Time
	seconds func(run string, pane, test int) float64
	events  events
	slots   map[string][]bool // by agent, which are taken
	placed  []placing
	over    map[string]float64 // runs, and when they ended
	open    int
}

// placing is one test on one slot, in seconds from the start.
type placing struct {
	agent, run       string
	slot, pane, test int
	start, end       float64
}

// event is the end of the next test of a lease.
type event struct {
	at     float64
	serial int
	lease  dispatch.Lease
	slot   int
	next   int // index of the test that ends
}

type events []event

func (e events) Len() int { return len(e) }
func (e events) Less(i, j int) bool {
	return e[i].at < e[j].at || (e[i].at == e[j].at && e[i].serial < e[j].serial)
}
func (e events) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)   { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

func newSimulation(agents []dispatch.Agent, seconds func(run string, pane, test int) float64) *simulation {
	forever := 100 * 365 * 24 * time.Hour
	s := &simulation{m: dispatch.New(dispatch.Config{LeaseTTL: forever, QueueLimit: forever}, 0), now: start, seconds: seconds,
		slots: map[string][]bool{}, over: map[string]float64{}}
	for _, a := range agents {
		s.m.Join(s.now, a, nil)
	}
	return s
}

func (s *simulation) elapsed() float64 { return s.now.Sub(start).Seconds() }

func (s *simulation) follow(ds []dispatch.Decision) {
	for _, d := range ds {
		switch d := d.(type) {
		case dispatch.Lease:
			s.take(d)
		case dispatch.Over:
			s.over[d.Run] = s.elapsed()
		}
	}
}

// take starts a lease on the agent's first free slot.
func (s *simulation) take(l dispatch.Lease) {
	if len(l.Tests) == 0 {
		return
	}
	slot := slices.Index(s.slots[l.Agent], false)
	if slot < 0 {
		slot = len(s.slots[l.Agent])
		s.slots[l.Agent] = append(s.slots[l.Agent], false)
	}
	s.slots[l.Agent][slot] = true
	s.await(l, slot, 0)
}

func (s *simulation) await(l dispatch.Lease, slot, next int) {
	from := s.elapsed()
	to := from + s.seconds(l.Run, l.Pane, l.Tests[next])
	s.placed = append(s.placed, placing{l.Agent, l.Run, slot, l.Pane, l.Tests[next], from, to})
	s.open++
	heap.Push(&s.events, event{at: to, serial: s.open, lease: l, slot: slot, next: next})
}

// run goes on until nothing is left to happen, and says whether the machine has
// no work left then.
func (s *simulation) run(ctx context.Context) (ended bool, err error) {
	for s.events.Len() > 0 {
		if ctx.Err() != nil {
			return false, tooLong(ctx)
		}
		e := heap.Pop(&s.events).(event)
		s.now = start.Add(time.Duration(e.at * float64(time.Second)))
		if e.next+1 < len(e.lease.Tests) {
			s.await(e.lease, e.slot, e.next+1)
		} else {
			s.slots[e.lease.Agent][e.slot] = false
		}
		_, ds := s.m.Result(s.now, e.lease.Fence, e.lease.Tests[e.next], dispatch.Outcome{Verdict: verdict.Passed,
			Seconds: s.seconds(e.lease.Run, e.lease.Pane, e.lease.Tests[e.next])})
		s.follow(ds)
	}
	queued, leased := s.m.Depth()
	return queued+leased == 0, nil
}

// Decode reads a question from JSON, as the API and the command line take it.
// What is missing or out of range is left to Check.
func Decode(raw []byte) (Question, error) {
	var q Question
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&q); err != nil {
		return q, fmt.Errorf("expected tests, agents and known_durations: %w", err)
	}
	return q, nil
}
