package plan

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
)

func TestEstimatesFallBack(t *testing.T) {
	b := NewBook([]Past{
		{"hold", "k1", "kestrel", []float64{10, 11, 400}}, // an outlier
		{"hold", "o1", "osprey", []float64{20}}, {"tides", "k1", "kestrel", []float64{2}}, {"tides", "o1", "osprey", []float64{4}},
		{"fees", "k1", "kestrel", []float64{6, -1, math.NaN()}}, {"never", "k1", "kestrel", []float64{0}},
	})
	assert.Equal(t, 11.0, b.Seconds("hold", "k1", "kestrel"))
	assert.Equal(t, 20.0, b.Seconds("hold", "o2", "osprey"), "the same browser elsewhere")
	assert.Greater(t, b.Seconds("fees", "o1", "osprey"), 6.0, "osprey is slower")
	assert.Greater(t, b.Seconds("new", "k1", "kestrel"), 0.0)
	assert.Zero(t, NewBook(nil).Seconds("new", "k1", "kestrel"))
	assert.Zero(t, (*Book)(nil).Seconds("new", "k1", "kestrel"))
}

func TestEstimatesForgetALongGonePast(t *testing.T) {
	past := Past{"hold", "k", "kestrel", nil}
	var others []Past // of the same browser, elsewhere
	for i := range 40 {
		took := map[bool]float64{true: 100, false: 5}[i < 30]
		past.Seconds = append(past.Seconds, took)
		others = append(others, Past{"tides", fmt.Sprint(i), "kestrel", []float64{took}})
	}
	assert.Equal(t, 5.0, NewBook([]Past{past}).Seconds("hold", "k", "kestrel"))
	assert.Equal(t, 5.0, NewBook(others).Seconds("tides", "new", "kestrel"))
}

func TestSpreadMeetsEveryPairInAsManyRunsAsCombinations(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tests := rapid.IntRange(1, 30).Draw(t, "tests")
		able := rapid.SliceOfN(rapid.Bool(), 1, 8).Draw(t, "able")
		first := rapid.IntRange(0, 100).Draw(t, "turn")
		usable := 0
		for _, ok := range able {
			if ok {
				usable++
			}
		}
		met := map[[2]int]bool{}
		for turn := range usable {
			counts := map[int]int{}
			for test, pane := range Spread(tests, able, first+turn) {
				require.True(t, able[pane])
				met[[2]int{test, pane}] = true
				counts[pane]++
			}
			for _, n := range counts {
				require.LessOrEqual(t, n, (tests+usable-1)/usable, "the parts are even")
			}
		}
		require.Len(t, met, tests*usable)
	})
	assert.Equal(t, []int{-1, -1}, Spread(2, []bool{false}, 3))
}

// question is a run of tests with log-normal durations: median 10 s, sigma as
// given.
func question(tests int, sigma float64, seed uint64, hosts []Host, needs ...fleet.Needs) Question {
	rng := rand.New(rand.NewPCG(seed, 7))
	q := Question{Agents: hosts, Known: true}
	for i := range tests {
		q.Tests = append(q.Tests, Test{ID: fmt.Sprint(i), Seconds: 10 * math.Exp(sigma*rng.NormFloat64()), Needs: needs[rng.IntN(len(needs))]})
	}
	return q
}

func hosts(n, slots int, browsers ...string) (out []Host) {
	for i := range n {
		out = append(out, Host{Name: fmt.Sprintf("%s-%d", browsers[0], i), Slots: slots, Facts: fleet.Facts{"browser": browsers}})
	}
	return out
}

func browser(name string) fleet.Needs { return fleet.Needs{"browser": {name}} }

// equalParts is what cutting the list into one part for each slot would take.
func equalParts(q Question, slots int) float64 {
	most := 0.0
	for i := range slots {
		sum := 0.0
		for _, t := range q.Tests[i*len(q.Tests)/slots : (i+1)*len(q.Tests)/slots] {
			sum += t.Seconds
		}
		most = max(most, sum)
	}
	return most
}

// unlike is a fleet of agents that have different browsers.
func unlike() []Host {
	fleet := hosts(10, 4, "kestrel", "osprey")
	fleet = append(fleet, hosts(8, 2, "osprey", "tern")...)
	fleet = append(fleet, hosts(5, 6, "tern")...)
	return append(fleet, hosts(7, 2, "heron", "kestrel")...)
}

func TestForecastsComeCloseToTheBound(t *testing.T) {
	any := fleet.Needs{}
	ratios := map[string]float64{}
	for seed := range uint64(20) {
		for name, tc := range map[string]struct {
			q     Question
			known bool
			want  float64
		}{
			"with history":    {question(2000, 1, seed, hosts(25, 4, "kestrel"), any), true, 1.02},
			"without history": {question(2000, 0.4, seed, hosts(25, 4, "kestrel"), any), false, 1.10},
			"unlike agents": {question(2000, 1, seed, unlike(), browser("kestrel"), browser("osprey"), browser("tern"), browser("heron"),
				fleet.Needs{"browser": {"osprey", "heron"}}), true, 1.05},
		} {
			tc.q.Known = tc.known
			f, err := tc.q.Run(context.Background())
			require.NoError(t, err)
			t.Logf("%s, seed %d: %.4f of the bound; equal parts %.3f", name, seed, f.Makespan/f.LowerBound,
				equalParts(tc.q, len(f.Slots))/f.LowerBound)
			ratios[name] += f.Makespan / f.LowerBound / 20
			if tc.known {
				assert.LessOrEqual(t, f.Makespan/f.LowerBound, tc.want, "%s, seed %d", name, seed)
			}
			assert.GreaterOrEqual(t, f.Makespan, f.LowerBound*(1-1e-9), name)
		}
	}
	assert.LessOrEqual(t, ratios["without history"], 1.10, "on average: the longest may happen to come last")
}

// Without history the first combinations to run a test tell the others how long
// it takes.
func TestDurationsAreLearntWithinARun(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 7))
	seconds := make([]float64, 100)
	for i := range seconds {
		seconds[i] = 10 * math.Exp(rng.NormFloat64())
	}
	run := dispatch.Run{ID: "r"}
	for range 20 {
		run.Panes = append(run.Panes, dispatch.Pane{Tests: make([]dispatch.Test, len(seconds))})
	}
	var agents []dispatch.Agent
	for i := range 25 {
		agents = append(agents, dispatch.Agent{Name: fmt.Sprint(i), Slots: 4})
	}
	total := 0.0
	for _, s := range seconds {
		total += s * 20 / 100
	}
	sim := newSimulation(agents, func(_ string, pane, test int) float64 { return seconds[test] * (0.9 + 0.01*float64(pane)) })
	sim.follow(sim.m.Submit(sim.now, run))
	ended, err := sim.run(context.Background())
	require.NoError(t, err)
	require.True(t, ended)
	assert.LessOrEqual(t, sim.over["r"]/total, 1.10)
}

func TestForecastOfAFewTests(t *testing.T) {
	q, err := Decode([]byte(`{"tests":[{"id":"t1","seconds":12.5,"needs":{"browser":"kestrel"}},{"id":"t2","seconds":2,
"needs":{"browser":["osprey"]}},
		{"id":"t3","seconds":1,"needs":{"browser":"ibis"}}],"agents":[{"name":"a1","slots":2,"facts":{"browser":["kestrel","osprey"]}}],
"known_durations":true}`))
	require.NoError(t, err)
	f, err := q.Run(context.Background())
	require.NoError(t, err)
	assert.Equal(t, 12.5, f.Makespan)
	assert.Equal(t, 12.5, f.LowerBound)
	assert.InDelta(t, 14.5/25, f.Utilisation, 1e-9)
	assert.Equal(t, []Impossible{{"t3", "no agent has browser=ibis; nearest: a1 (browser: wants ibis, has kestrel, osprey)"}}, f.Impossible)
	require.Len(t, f.Slots, 2)
	assert.Equal(t, []Slot{{"a1", 1, 12.5, []Placed{{"t1", 0, 12.5}}}, {"a1", 2, 2, []Placed{{"t2", 0, 2}}}}, f.Slots)
	raw, err := json.Marshal(f)
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"makespan_s":12.5,"lower_bound_s":12.5`)
}

func TestLimitAndLocksHoldInForecasts(t *testing.T) {
	q := question(40, 0, 1, hosts(4, 4, "kestrel"), fleet.Needs{})
	q.Limit = 2
	f, err := q.Run(context.Background())
	require.NoError(t, err)
	assert.InDelta(t, 200, f.Makespan, 1e-6)
	assert.InDelta(t, 200, f.LowerBound, 1e-6)
	q.Limit = 0
	for i := range q.Tests {
		q.Tests[i].Locks = []string{"the crane"}
	}
	f, err = q.Run(context.Background())
	require.NoError(t, err)
	assert.InDelta(t, 400, f.Makespan, 1e-6)
}

func TestTheBoundKnowsTheTightestPlace(t *testing.T) {
	tests := []Test{{ID: "a", Seconds: 60, Needs: browser("heron")}, {ID: "b", Seconds: 60, Needs: browser("heron")},
		{ID: "c", Seconds: 10, Needs: browser("tern")}}
	q := Question{Tests: tests, Agents: append(hosts(1, 1, "heron"), hosts(9, 9, "tern")...)}
	f, err := q.Run(context.Background())
	require.NoError(t, err)
	assert.Equal(t, 120.0, f.LowerBound)
	assert.Equal(t, 120.0, f.Makespan)
}

// No set of tests may need longer than the bound says, and the schedule never
// beats it.
func TestBoundIsABound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := []string{"kestrel", "osprey", "tern"}
		var hs []Host
		for i := range rapid.IntRange(1, 4).Draw(t, "agents") {
			has := rapid.SliceOfNDistinct(rapid.SampledFrom(names), 1, 3, rapid.ID[string]).Draw(t, "browsers")
			hs = append(hs, Host{Name: fmt.Sprint(i), Slots: rapid.IntRange(1, 3).Draw(t, "slots"), Facts: fleet.Facts{"browser": has}})
		}
		q := Question{Agents: hs, Known: rapid.Bool().Draw(t, "known"), Limit: rapid.IntRange(0, 4).Draw(t, "limit")}
		for i := range rapid.IntRange(1, 30).Draw(t, "tests") {
			q.Tests = append(q.Tests, Test{ID: fmt.Sprint(i), Seconds: float64(rapid.IntRange(0, 50).Draw(t, "seconds")),
				Needs: browser(rapid.SampledFrom(names).Draw(t, "browser"))})
		}
		f, err := q.Run(context.Background())
		require.NoError(t, err)
		require.GreaterOrEqual(t, f.Makespan, f.LowerBound-1e-6)
		placed := 0
		for _, s := range f.Slots {
			end := 0.0
			for _, p := range s.Tests {
				require.GreaterOrEqual(t, p.Start, end-1e-6, "a slot runs one test at a time")
				end = p.End
				placed++
			}
		}
		require.Equal(t, len(q.Tests), placed+len(f.Impossible))
	})
}

func TestBadQuestions(t *testing.T) {
	for raw, want := range map[string]string{
		`{`: "expected tests", `{"tests":[]}`: "tests: expected", `{"test":[]}`: "unknown field",
		`{"tests":[{"id":"a","seconds":1}]}`:                                                 "agents: expected",
		`{"tests":[{"id":"a","seconds":-1}],"agents":[{"name":"x","slots":1}]}`:              "tests[0].seconds",
		`{"tests":[{"id":"a"},{"id":"a"}],"agents":[{"name":"x","slots":1}]}`:                "tests[1].id",
		`{"tests":[{"id":"a"}],"agents":[{"name":"x","slots":0}]}`:                           "agents[0].slots",
		`{"tests":[{"id":"a"}],"agents":[{"name":"x","slots":1},{"name":"x","slots":1}]}`:    "agents[1].name",
		`{"tests":[{"id":"a","needs":{"browser":7}}],"agents":[{"name":"x","slots":1}]}`:     "browser: expected a string",
		`{"tests":[{"id":"a","needs":{"version":"new"}}],"agents":[{"name":"x","slots":1}]}`: "tests[0].needs: version",
		`{"tests":[{"id":"a"}],"agents":[{"name":"x","slots":1}],"limit":-1}`:                "limit",
	} {
		q, err := Decode([]byte(raw))
		if err == nil {
			err = q.Check()
		}
		assert.ErrorContains(t, err, want, raw)
	}
}

func TestWhatIfFindsTheKnee(t *testing.T) {
	q := question(200, 0.5, 3, hosts(4, 2, "kestrel"), fleet.Needs{})
	rows, knee, err := q.WhatIf(context.Background(), []int{0, 1, 2, 4, 8, 16, 32, 64})
	require.NoError(t, err)
	assert.Equal(t, 4, rows[0].Agents)
	assert.Less(t, rows[3].Makespan, rows[0].Makespan*0.6)
	assert.Less(t, knee, 68)
	assert.GreaterOrEqual(t, knee, 8)
}

func TestFurtherAgentsAreThoseThatHelp(t *testing.T) {
	q := question(100, 0.5, 3, append(hosts(1, 1, "heron"), hosts(5, 4, "kestrel")...), browser("heron"), browser("kestrel"))
	rows, _, err := q.WhatIf(context.Background(), []int{0, 2})
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"heron-0": 2}, rows[1].Copies)
	assert.InDelta(t, rows[0].Makespan/3, rows[1].Makespan, rows[0].Makespan/10)
}

func TestExpectGoesOnFromTheMiddle(t *testing.T) {
	now := time.Date(2026, 3, 1, 6, 30, 0, 0, time.UTC)
	m := dispatch.New(dispatch.Config{}, 0)
	m.Join(now, dispatch.Agent{Name: "quay", Slots: 1, Facts: fleet.Facts{"browser": {"kestrel"}}}, nil)
	run := dispatch.Run{ID: "r", Panes: []dispatch.Pane{{Needs: browser("kestrel"), Tests: []dispatch.Test{{Seconds: 10}, {Seconds: 20},
		{Seconds: 5}}}, {Needs: browser("tern"), Tests: make([]dispatch.Test, 1)}}}
	lease := m.Submit(now, run)
	var fence int64
	var first int
	for _, d := range lease {
		if l, ok := d.(dispatch.Lease); ok {
			fence, first = l.Fence, l.Tests[0]
		}
	}
	assert.Equal(t, 1, first, "the longest goes first")
	m.Started(now, fence, first)
	assert.InDelta(t, 20+10+5, Expect(m.Outline(now), 5)["r"], 1e-6)
	assert.InDelta(t, 12+10+5, Expect(m.Outline(now.Add(8*time.Second)), 5)["r"], 1e-6)
	m.Drain(now, "quay", true)
	_, ends := Expect(m.Outline(now), 5)["r"]
	assert.False(t, ends, "with nobody to take the rest it does not end")
}

func BenchmarkForecast(b *testing.B) {
	q := question(2000, 1, 1, hosts(25, 4, "kestrel"), fleet.Needs{})
	for b.Loop() {
		if _, err := q.Run(context.Background()); err != nil {
			b.Fatal(err)
		}
	}
}

// What strangers may have forecast has an end: different needs are matched with agents
// within bounds, and the one who asks can leave.
func TestAForecastThatIsTooHard(t *testing.T) {
	q := Question{Known: true}
	for i := range 2_001 {
		q.Tests = append(q.Tests, Test{ID: fmt.Sprint(i), Seconds: 1, Needs: fleet.Needs{"tide": {fmt.Sprint(i)}}})
	}
	for i := range 1_000 {
		q.Agents = append(q.Agents, Host{Name: fmt.Sprint("quay-", i), Slots: 1})
	}
	_, err := q.Run(t.Context())
	assert.ErrorContains(t, err, "at most 2000000 matches")
	q.Tests = q.Tests[:100]
	left, leave := context.WithCancel(t.Context())
	leave()
	_, err = q.Run(left)
	assert.ErrorContains(t, err, "takes too long")
	for i := range q.Tests {
		q.Tests[i].Needs = nil
	}
	_, err = q.Run(left)
	assert.ErrorContains(t, err, "takes too long")
}
