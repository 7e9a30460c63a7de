package dispatch

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

var t0 = time.Date(2026, 3, 1, 6, 30, 0, 0, time.UTC)

func after(d time.Duration) time.Time { return t0.Add(d) }

func agentWith(name string, slots int, browsers ...string) Agent {
	return Agent{Name: name, Slots: slots, Facts: fleet.Facts{"browser": browsers}}
}

func runOf(id string, tests int, browsers ...string) Run {
	r := Run{ID: id}
	for _, b := range browsers {
		p := Pane{Needs: fleet.Needs{"browser": {b}}, Tests: make([]Test, tests)}
		for i := range p.Tests {
			p.Tests[i].Seconds = 5
		}
		r.Panes = append(r.Panes, p)
	}
	return r
}

func only[T Decision](ds []Decision) (out []T) {
	for _, d := range ds {
		if v, ok := d.(T); ok {
			out = append(out, v)
		}
	}
	return out
}

func TestARunFromStartToEnd(t *testing.T) {
	m := New(Config{}, 0)
	assert.Empty(t, m.Submit(t0, runOf("r", 1, "chromium", "firefox")))
	ds := m.Join(t0, agentWith("quay", 2, "chromium", "firefox"), nil)
	leases := only[Lease](ds)
	require.Len(t, leases, 2)
	assert.Equal(t, []int{1}, leases[0].Attempt)

	ok, ds := m.Result(t0, leases[0].Fence, 0, Outcome{Verdict: verdict.Passed})
	assert.True(t, ok)
	assert.Equal(t, []Decision{Closed{Fence: leases[0].Fence}, Settled{Run: "r", Pane: leases[0].Pane, Verdict: verdict.Passed}}, ds)

	ok, _ = m.Result(t0, leases[0].Fence, 0, Outcome{Verdict: verdict.Failed})
	assert.False(t, ok, "a second result for the same test does not count")

	_, ds = m.Result(t0, leases[1].Fence, 0, Outcome{Verdict: verdict.Failed})
	assert.Equal(t, []Over{{Run: "r"}}, only[Over](ds))
	assert.False(t, m.Live("r"))
}

func TestRetryMakesFlaky(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	r := runOf("r", 1, "chromium")
	r.Retries = 1
	first := only[Lease](m.Submit(t0, r))[0]
	_, ds := m.Result(t0, first.Fence, 0, Outcome{Verdict: verdict.Failed})
	second := only[Lease](ds)[0]
	assert.Equal(t, []int{2}, second.Attempt)
	_, ds = m.Result(t0, second.Fence, 0, Outcome{Verdict: verdict.Passed})
	assert.Equal(t, verdict.Flaky, only[Settled](ds)[0].Verdict)
}

func TestLabFaultMovesToAnotherAgentAndGivesUpInTheEnd(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("pier", 1, "chromium"), nil)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 1, "chromium")))[0]
	seen := []string{l.Agent}
	for {
		_, ds := m.Result(t0, l.Fence, 0, Outcome{Verdict: verdict.LabFault})
		if s := only[Settled](ds); len(s) > 0 {
			assert.Equal(t, verdict.LabFault, s[0].Verdict)
			break
		}
		l = only[Lease](ds)[0]
		seen = append(seen, l.Agent)
	}
	assert.Len(t, seen, 3)
	assert.NotEqual(t, seen[0], seen[1])
}

func TestExpiryBooksOnlyTheTestThatRan(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 12, "chromium")))[0]
	require.Len(t, l.Tests, 4)
	require.True(t, m.Started(t0, l.Fence, l.Tests[0]))
	ok, _ := m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Passed})
	require.True(t, ok)
	require.True(t, m.Started(t0, l.Fence, l.Tests[1]))
	m.Leave(t0, "quay")

	assert.Empty(t, m.Tick(after(15*time.Second)), "a lease lives for its whole time")
	ds := m.Tick(after(16 * time.Second))
	lost := only[Lost](ds)
	require.Len(t, lost, 1)
	assert.Equal(t, l.Tests[1], lost[0].Test)
	assert.Equal(t, "agent quay stopped answering", lost[0].Why)

	ok, _ = m.Result(after(17*time.Second), l.Fence, l.Tests[2], Outcome{Verdict: verdict.Passed})
	assert.False(t, ok, "an ended lease's result does not count")
	assert.Equal(t, []int64{l.Fence}, m.Renew(after(17*time.Second), "quay", []int64{l.Fence}))
	queued, leased := m.Depth()
	assert.Equal(t, 11, queued)
	assert.Zero(t, leased)
}

func TestAgentThatComesBackKeepsItsLeases(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("quay", 2, "chromium"), nil)
	ls := only[Lease](m.Submit(t0, runOf("r", 2, "chromium")))
	require.Len(t, ls, 2)
	m.Leave(t0, "quay")
	ds := m.Join(after(5*time.Second), agentWith("quay", 2, "chromium"), []int64{ls[0].Fence})
	assert.Equal(t, ls[1].Fence, only[End](ds)[0].Fence)
	ok, _ := m.Result(after(6*time.Second), ls[0].Fence, ls[0].Tests[0], Outcome{Verdict: verdict.Passed})
	assert.True(t, ok)
}

// A program that comes back without a lease of which it never began a test has
// not had it: the order was lost on its way, nobody tried anything.
func TestAnOrderThatNeverArrived(t *testing.T) {
	quay := agentWith("quay", 1, "chromium")
	quay.Program = "first"
	for _, c := range []struct {
		name    string
		program string
		began   bool
		lost    bool
	}{
		{"the same program, nothing begun", "first", false, false},
		{"the same program, a test begun", "first", true, true},
		{"another program", "second", false, true},
		{"a program without a mark", "", false, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := New(Config{}, 0)
			m.Join(t0, quay, nil)
			l := only[Lease](m.Submit(t0, runOf("r", 1, "chromium")))[0]
			if c.began {
				m.Started(t0, l.Fence, 0)
			}
			back := quay
			back.Program = c.program
			ds := m.Join(t0, back, nil)
			require.Len(t, only[End](ds), 1)
			assert.Equal(t, c.lost, len(only[Lost](ds)) == 1)
			again := only[Lease](ds)
			require.Len(t, again, 1)
			assert.Equal(t, map[bool]int{false: 1, true: 2}[c.lost], again[0].Attempt[0])
		})
	}
	t.Run("after a restart from records", func(t *testing.T) {
		m := New(Config{}, 7)
		m.Know(t0, quay)
		m.Restore(t0, runOf("r", 1, "chromium"), []Lease{{Fence: 7, Agent: "quay", Run: "r", Tests: []int{0}, Attempt: []int{1}}})
		ds := m.Join(t0, quay, nil)
		assert.Empty(t, only[Lost](ds))
		assert.Equal(t, 1, only[Lease](ds)[0].Attempt[0])
	})
	t.Run("not for ever", func(t *testing.T) {
		m := New(Config{}, 0)
		m.Join(t0, quay, nil)
		m.Submit(t0, runOf("r", 1, "chromium"))
		lost := 0
		for range 3 {
			lost += len(only[Lost](m.Join(t0, quay, nil)))
		}
		assert.Equal(t, 1, lost, "at the third order that got lost the lab is at fault")
	})
}

func TestWorkNobodyCanDo(t *testing.T) {
	m := New(Config{}, 0)
	m.Know(t0, agentWith("pier", 1, "webkitgtk"))
	ds := m.Submit(t0, runOf("r", 2, "chromium", "webkitgtk"))
	s := only[Settled](ds)
	require.Len(t, s, 2, "the pane that an offline agent could serve waits")
	assert.Equal(t, verdict.Unsupported, s[0].Verdict)
	assert.Contains(t, s[0].Why, "no agent has browser=chromium; nearest: pier")

	assert.Empty(t, m.Tick(after(5*time.Minute)))
	ds = m.Tick(after(5*time.Minute + time.Second))
	s = only[Settled](ds)
	require.Len(t, s, 2)
	assert.Equal(t, verdict.LabFault, s[0].Verdict)
	assert.Contains(t, s[0].Why, "no agent with browser=webkitgtk took work for 5m0s: pier is offline")
	assert.Len(t, only[Over](ds), 1)
}

func TestCancelSkipsWhatIsLeftAndKeepsWhatIsKnown(t *testing.T) {
	m := New(Config{MaxSlice: 2}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 4, "chromium")))[0]
	m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Passed})
	ds := m.Cancel(t0, "r", "cancelled by kestrel")
	assert.Len(t, only[End](ds), 1)
	for _, s := range only[Settled](ds) {
		assert.Equal(t, verdict.Skipped, s.Verdict)
		assert.Equal(t, "cancelled by kestrel", s.Why)
	}
	assert.Len(t, only[Settled](ds), 3)
	assert.Len(t, only[Over](ds), 1)
	assert.Zero(t, m.Load("quay").Used)
}

func TestGivingBackTheLastLeaseEndsTheRun(t *testing.T) {
	m := New(Config{LabTries: 1}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	first := only[Lease](m.Submit(t0, runOf("r", 1, "chromium")))[0]
	second := only[Lease](m.Done(t0, first.Fence, "no disk"))[0]
	ds := m.Done(t0, second.Fence, "no disk")
	assert.Equal(t, verdict.LabFault, only[Settled](ds)[0].Verdict)
	assert.Len(t, only[Over](ds), 1)
	assert.Empty(t, m.Done(t0, second.Fence, "again"))
}

func TestLimitHolds(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("quay", 8, "chromium"), nil)
	r := runOf("r", 6, "chromium")
	r.Limit = 2
	assert.Len(t, only[Lease](m.Submit(t0, r)), 2)
}

func TestRestoreGoesOnWithLiveLeases(t *testing.T) {
	m := New(Config{}, 41)
	m.Know(t0, agentWith("quay", 1, "chromium"))
	r := runOf("r", 3, "chromium")
	r.Panes[0].Tests[0] = Test{Past: []verdict.Verdict{verdict.Passed}, Settled: true}
	m.Restore(t0, r, []Lease{{Fence: 41, Agent: "quay", Run: "r", Tests: []int{0, 1}, Attempt: []int{1, 1}}})
	m.Join(t0, agentWith("quay", 1, "chromium"), []int64{41})
	ok, ds := m.Result(t0, 41, 1, Outcome{Verdict: verdict.Passed})
	assert.True(t, ok)
	next := only[Lease](ds)[0]
	assert.Equal(t, int64(42), next.Fence)
	assert.Equal(t, []int{2}, next.Tests)
}

func TestFewestSlotsForTheirWeightGoFirst(t *testing.T) {
	m := New(Config{MaxSlice: 1}, 0)
	m.SetQuotas(t0, []Quota{{Kind: OfProject, Name: "berths", Weight: 3}})
	for _, project := range []string{"berths", "tides"} {
		r := runOf(project, 100, "chromium")
		r.Project = project
		m.Submit(t0, r)
	}
	got := map[string]int{}
	for _, l := range only[Lease](m.Join(t0, agentWith("quay", 8, "chromium"), nil)) {
		got[l.Run]++
	}
	assert.Equal(t, map[string]int{"berths": 6, "tides": 2}, got)
}

func TestPriorityIsWithinAProject(t *testing.T) {
	m := New(Config{MaxSlice: 1}, 0)
	for i, id := range []string{"old", "urgent"} {
		r := runOf(id, 3, "chromium")
		r.Priority = i
		m.Submit(t0, r)
	}
	l := only[Lease](m.Join(t0, agentWith("quay", 1, "chromium"), nil))[0]
	assert.Equal(t, "urgent", l.Run)
}

func TestLongestFirstAndSlicesThatShrink(t *testing.T) {
	m := New(Config{}, 0)
	r := runOf("r", 30, "chromium")
	for i := range r.Panes[0].Tests {
		r.Panes[0].Tests[i].Seconds = float64(1 + i%3)
	}
	m.Submit(t0, r)
	l := only[Lease](m.Join(t0, agentWith("quay", 1, "chromium"), nil))[0]
	var sizes []int
	for {
		sizes = append(sizes, len(l.Tests))
		var ds []Decision
		for _, test := range l.Tests {
			_, ds = m.Result(t0, l.Fence, test, Outcome{Verdict: verdict.Passed})
		}
		next := only[Lease](ds)
		if len(next) == 0 {
			break
		}
		assert.GreaterOrEqual(t, r.Panes[0].Tests[l.Tests[len(l.Tests)-1]].Seconds, r.Panes[0].Tests[next[0].Tests[0]].Seconds)
		l = next[0]
	}
	assert.Equal(t, 1, sizes[len(sizes)-1])
	assert.Greater(t, sizes[0], 4)
}

func TestOneLaneKeepsAPaneToOneAgent(t *testing.T) {
	m := New(Config{MaxSlice: 1}, 0)
	m.Join(t0, agentWith("pier", 1, "chromium"), nil)
	m.Join(t0, agentWith("quay", 4, "chromium"), nil)
	r := runOf("r", 5, "chromium")
	r.Lanes = 1
	ls := only[Lease](m.Submit(t0, r))
	require.Len(t, ls, 1)
	agent := ls[0].Agent
	for len(ls) > 0 {
		require.Len(t, ls, 1)
		assert.Equal(t, agent, ls[0].Agent)
		var ds []Decision
		_, ds = m.Result(t0, ls[0].Fence, ls[0].Tests[0], Outcome{Verdict: verdict.Passed})
		ls = only[Lease](ds)
	}
	assert.False(t, m.Live("r"))
}

func TestScarceAgentsAreKept(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("amber", 1, "chromium", "webkitgtk"), nil)
	m.Join(t0, agentWith("brass", 1, "chromium"), nil)
	assert.Equal(t, "brass", only[Lease](m.Submit(t0, runOf("r", 1, "chromium")))[0].Agent, "only amber has webkitgtk")
	assert.Equal(t, "amber", only[Lease](m.Submit(t0, runOf("s", 1, "webkitgtk")))[0].Agent)
}

func TestAnAgentRestsAfterFaultsInARowAndIsTriedAgain(t *testing.T) {
	m := New(Config{MaxSlice: 1, LabTries: 9}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 9, "chromium")))[0]
	fail := func(now time.Time, o Outcome) []Decision {
		_, ds := m.Result(now, l.Fence, l.Tests[0], o)
		if next := only[Lease](ds); len(next) > 0 {
			l = next[0]
		}
		return ds
	}
	fail(t0, Outcome{Verdict: verdict.Passed})
	for range 5 {
		assert.Empty(t, only[Rests](fail(t0, Outcome{Verdict: verdict.LabFault, Site: true})), "the site's fault is not the agent's")
	}
	fault := Outcome{Verdict: verdict.LabFault, Why: "no display"}
	fail(t0, fault)
	fail(t0, fault)
	ds := fail(t0, fault)
	require.Equal(t, []Rests{{"quay", after(2 * time.Minute), "3 lab faults in a row, the last: no display"}}, only[Rests](ds))
	assert.Empty(t, only[Lease](ds))
	assert.Equal(t, "resting: 3 lab faults in a row, the last: no display", m.Load("quay").Away)
	l = only[Lease](m.Tick(after(2 * time.Minute)))[0]
	assert.Equal(t, after(6*time.Minute), only[Rests](fail(after(2*time.Minute), fault))[0].Until, "the next rest is twice as long")
	l = only[Lease](m.Wake(after(3*time.Minute), "quay"))[0]
	fail(after(3*time.Minute), Outcome{Verdict: verdict.Passed})
	assert.Empty(t, only[Rests](fail(after(3*time.Minute), fault)))
}

func TestDraining(t *testing.T) {
	m := New(Config{MaxSlice: 1}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 2, "chromium")))[0]
	assert.Empty(t, m.Drain(t0, "quay", true))
	_, ds := m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Passed})
	assert.Empty(t, only[Lease](ds))
	assert.Len(t, only[Lease](m.Drain(t0, "quay", false)), 1)
}

func TestStopAfterFailuresAndAtTheTimeLimit(t *testing.T) {
	m := New(Config{MaxSlice: 1}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	r := runOf("r", 4, "chromium")
	r.StopAfter = 1
	l := only[Lease](m.Submit(t0, r))[0]
	_, ds := m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Failed})
	s := only[Settled](ds)
	require.Len(t, s, 4)
	assert.Equal(t, verdict.Skipped, s[3].Verdict)
	assert.Equal(t, "stopped after 1 failed", s[3].Why)
	assert.Len(t, only[Over](ds), 1)

	r = runOf("aside", 4, "chromium") // a test that is set aside stops nothing
	r.StopAfter = 1
	for j := range r.Panes[0].Tests {
		r.Panes[0].Tests[j].Aside = true
	}
	m3 := New(Config{MaxSlice: 1}, 0)
	m3.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l = only[Lease](m3.Submit(t0, r))[0]
	_, ds = m3.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Failed})
	assert.Len(t, only[Settled](ds), 1)
	assert.Empty(t, only[Over](ds))

	r = runOf("slow", 2, "chromium")
	r.TimeLimit = time.Minute
	m2 := New(Config{MaxSlice: 1, LeaseTTL: time.Hour}, 0)
	m2.Join(t0, agentWith("quay", 1, "chromium"), nil)
	m2.Submit(t0, r)
	assert.Empty(t, m2.Tick(after(time.Minute)))
	ds = m2.Tick(after(61 * time.Second))
	assert.Equal(t, "the run's limit of 1m0s is over", only[Settled](ds)[0].Why)
	assert.Len(t, only[Over](ds), 1)
}

// Two projects of equal weight and very unlike backlogs share the slots evenly
// while both have work: Jain's index of their slot seconds is 1 for an even
// share and 1/2 when one has all.
func TestFairShares(t *testing.T) {
	m := New(Config{LeaseTTL: time.Hour}, 0)
	for i := range 10 {
		m.Join(t0, agentWith(string(rune('a'+i)), 4, "chromium"), nil)
	}
	busy := map[string]float64{}
	type job struct {
		lease Lease
		end   time.Time
	}
	var jobs []job
	now := t0
	start := func(ds []Decision) {
		for _, l := range only[Lease](ds) {
			each := map[string]float64{"large": 3, "small": 11}[l.Run]
			jobs = append(jobs, job{l, now.Add(time.Duration(each*float64(len(l.Tests))) * time.Second)})
		}
	}
	for id, n := range map[string]int{"large": 9000, "small": 600} {
		r := runOf(id, n, "chromium")
		r.Project = id
		start(m.Submit(t0, r))
	}
	for {
		next := 0
		for i := range jobs {
			if jobs[i].end.Before(jobs[next].end) {
				next = i
			}
		}
		j := jobs[next]
		for _, other := range jobs {
			busy[other.lease.Run] += j.end.Sub(now).Seconds()
		}
		now = j.end
		jobs = append(jobs[:next], jobs[next+1:]...)
		for _, test := range j.lease.Tests {
			_, ds := m.Result(now, j.lease.Fence, test, Outcome{Verdict: verdict.Passed})
			start(ds)
		}
		if m.byID["small"].queued == 0 || m.byID["large"].queued == 0 {
			break
		}
	}
	a, b := busy["large"], busy["small"]
	jain := (a + b) * (a + b) / (2 * (a*a + b*b))
	t.Logf("Jain index %.4f of %v", jain, busy)
	assert.GreaterOrEqual(t, jain, 0.98, "%v", busy)
}

func TestLocksHoldAcrossRunsOfAProject(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("quay", 8, "chromium"), nil)
	locked := func(id string) Run {
		r := runOf(id, 3, "chromium")
		r.Panes[0].Tests[0].Locks = []string{"berths/crane"}
		r.Panes[0].Tests[1].Locks = []string{"berths/crane", "berths/7"}
		return r
	}
	first := only[Lease](m.Submit(t0, locked("r")))
	second := only[Lease](m.Submit(t0, locked("s")))
	assert.Len(t, first, 2, "one with the crane, one without a lock")
	assert.Equal(t, [][]int{{2}}, [][]int{second[0].Tests}, "the crane is taken")
	require.Len(t, second, 1)
	crane := first[slices.IndexFunc(first, func(l Lease) bool { return l.Tests[0] < 2 })]
	require.Len(t, crane.Tests, 1, "a test with locks goes alone")
	_, ds := m.Result(t0, crane.Fence, crane.Tests[0], Outcome{Verdict: verdict.Passed})
	require.Len(t, only[Lease](ds), 1, "the crane is free again")
}

func TestQuotasOfOwnersAndCombinations(t *testing.T) {
	m := New(Config{MaxSlice: 1}, 0)
	m.Join(t0, agentWith("quay", 20, "chromium", "firefox"), nil)
	m.SetQuotas(t0, []Quota{{Kind: OfOwner, Name: "ci", Slots: 4}, {Kind: OfCombination, Values: map[string]string{"browser": "firefox"},
		Slots: 3}})
	submit := func(id, owner string) (leases []Lease) {
		r := runOf(id, 5, "chromium", "firefox")
		r.Owner = owner
		for i, b := range []string{"chromium", "firefox"} {
			r.Panes[i].Values = map[string]string{"browser": b}
		}
		return only[Lease](m.Submit(t0, r))
	}
	assert.Len(t, submit("a", "ci"), 4)
	more := submit("b", "ada")
	panes := map[int]int{}
	for _, l := range more {
		panes[l.Pane]++
	}
	assert.Equal(t, 5, panes[0])
	assert.LessOrEqual(t, panes[1], 3)
	assert.NotEmpty(t, only[Lease](m.SetQuotas(t0, nil)), "without quotas the rest goes out")
}

func TestWhatOneCombinationLearnsTheOthersKnow(t *testing.T) {
	m := New(Config{MaxSlice: 1}, 0)
	r := Run{ID: "r", Panes: []Pane{{Tests: make([]Test, 3)}, {Tests: make([]Test, 3)}}}
	m.Submit(t0, r)
	l := only[Lease](m.Join(t0, Agent{Name: "quay", Slots: 1}, nil))[0]
	require.Equal(t, []int{0}, l.Tests, "nothing is known: the first goes first")
	_, ds := m.Result(t0, l.Fence, 0, Outcome{Verdict: verdict.Passed, Seconds: 30})
	st := m.byID["r"]
	assert.InDelta(t, 30, st.panes[1].tests[0].seconds, 0)
	assert.Equal(t, 0, st.panes[1].queue[len(st.panes[1].queue)-1], "what is known to end waits behind what may be long")
	assert.Len(t, only[Lease](ds), 1)
}

func TestQueueLimitWhileAgentsRestOrDrain(t *testing.T) {
	m := New(Config{QueueLimit: time.Minute}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	m.Drain(t0, "quay", true)
	assert.Empty(t, m.Submit(t0, runOf("r", 1, "chromium")))
	assert.Empty(t, m.Tick(after(time.Minute)))
	ds := m.Tick(after(time.Minute + time.Second))
	require.Len(t, only[Settled](ds), 1)
	assert.Equal(t, "no agent with browser=chromium took work for 1m0s: quay is draining", only[Settled](ds)[0].Why)
}

func TestOutlineHasWhatIsLeft(t *testing.T) {
	m := New(Config{MaxSlice: 4}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	m.Know(t0, agentWith("pier", 1, "chromium"))
	l := only[Lease](m.Submit(t0, runOf("r", 12, "chromium")))[0]
	m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Passed})
	m.Started(t0, l.Fence, l.Tests[2])
	o := m.Outline(after(3 * time.Second))
	require.Len(t, o.Agents, 1, "who is offline does not count")
	require.Len(t, o.Leases, 1)
	assert.Equal(t, []int{l.Tests[2], l.Tests[1], l.Tests[3]}, o.Leases[0].Left, "the one that runs comes first")
	assert.InDelta(t, 3, o.Leases[0].Gone, 0)
	assert.True(t, o.Runs[0].Panes[0].Tests[l.Tests[0]].Settled)
}

func TestForgettingAnAgentLosesItsLeases(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("pier", 1, "chromium"), nil)
	first := only[Lease](m.Submit(t0, runOf("r", 2, "chromium")))[0]
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	ds := m.Forget(t0, "pier")
	assert.Equal(t, "agent pier was removed", only[Lost](ds)[0].Why)
	assert.Equal(t, first.Fence, only[End](ds)[0].Fence)
	assert.Equal(t, "unknown", m.Load("pier").Away)
	assert.Empty(t, m.Forget(t0, "nobody"))
}

// A slice was half done when the caller stopped: one of its tests had failed and
// was being tried again elsewhere. Both leases go on with what is theirs.
func TestARestoredLeaseHoldsWhatHasNotReported(t *testing.T) {
	m := New(Config{}, 0)
	m.Know(t0, agentWith("quay", 1, "chromium"))
	m.Know(t0, agentWith("pier", 1, "chromium"))
	r := runOf("r", 3, "chromium")
	r.Retries = 1
	r.Panes[0].Tests[0].Past = []verdict.Verdict{verdict.Failed}
	r.Panes[0].Tests[1].Past = []verdict.Verdict{verdict.Passed}
	r.Panes[0].Tests[1].Settled = true
	assert.Empty(t, m.Restore(t0, r, []Lease{
		{Fence: 5, Agent: "quay", Run: "r", Tests: []int{0, 1, 2}, Attempt: []int{1, 1, 1}},
		{Fence: 9, Agent: "pier", Run: "r", Tests: []int{0}, Attempt: []int{2}},
	}))
	assert.Empty(t, m.Join(t0, agentWith("quay", 1, "chromium"), []int64{5}))
	assert.Empty(t, m.Join(t0, agentWith("pier", 1, "chromium"), []int64{9}))
	ok, ds := m.Result(t0, 9, 0, Outcome{Verdict: verdict.Passed})
	assert.True(t, ok, "the newer lease has the test")
	assert.Equal(t, verdict.Flaky, only[Settled](ds)[0].Verdict)
	ok, _ = m.Result(t0, 5, 0, Outcome{Verdict: verdict.Failed})
	assert.False(t, ok, "the older one has reported it")
	ok, ds = m.Result(t0, 5, 2, Outcome{Verdict: verdict.Passed})
	assert.True(t, ok)
	assert.Len(t, only[Over](ds), 1)
}

// A run whose site nobody reaches gives up after a few attempts, as the lab's fault; not
// while an agent is left that may reach it, nor once anything has.
func TestASiteThatNobodyReaches(t *testing.T) {
	gone := Outcome{Verdict: verdict.LabFault, Site: true, Why: "http://desk.example cannot be reached from this agent"}
	m := New(Config{MaxSlice: 1, LabTries: 2}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 9, "chromium")))[0]
	var ds []Decision
	for range unreached {
		require.Empty(t, only[Over](ds))
		_, ds = m.Result(t0, l.Fence, l.Tests[0], gone)
		if next := only[Lease](ds); len(next) > 0 {
			l = next[0]
		}
	}
	require.Len(t, only[Over](ds), 1)
	settled := only[Settled](ds)
	require.NotEmpty(t, settled)
	for _, s := range settled {
		assert.Equal(t, verdict.LabFault, s.Verdict)
	}
	assert.Equal(t, "stopped, for no agent reaches the site: agent quay: "+gone.Why, settled[len(settled)-1].Why)

	for name, before := range map[string]func(m *Machine, l Lease) []Decision{
		"another agent": func(m *Machine, _ Lease) []Decision { return m.Join(t0, agentWith("pier", 1, "chromium"), nil) },
		"reached once": func(m *Machine, l Lease) []Decision {
			_, ds := m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Passed})
			return ds
		},
	} {
		m := New(Config{MaxSlice: 1, LabTries: 2}, 0)
		m.Join(t0, agentWith("quay", 1, "chromium"), nil)
		l := only[Lease](m.Submit(t0, runOf("r", 9, "chromium")))[0]
		for _, next := range only[Lease](before(m, l)) {
			if next.Agent == "quay" {
				l = next
			}
		}
		for range unreached + 1 {
			_, ds := m.Result(t0, l.Fence, l.Tests[0], gone)
			require.Empty(t, only[Over](ds), name)
			for _, next := range only[Lease](ds) {
				if next.Agent == "quay" {
					l = next
				}
			}
		}
	}
}

// What one suite lacks on an agent says nothing of the site, and the agent goes on at once.
func TestWhatASuiteLacksIsNoFaultOfTheAgentsNorTheSites(t *testing.T) {
	m := New(Config{MaxSlice: 1, LabTries: 2}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 3, "chromium")))[0]
	tries, settled := 0, 0
	for {
		tries++
		_, ds := m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.LabFault, Lacks: true, Why: "no node here"})
		for _, s := range only[Settled](ds) {
			settled++
			assert.NotContains(t, s.Why, "reaches the site")
		}
		next := only[Lease](ds)
		if len(next) == 0 {
			assert.Len(t, only[Over](ds), 1)
			break
		}
		l = next[0]
	}
	assert.Equal(t, 3, settled, "each by itself")
	assert.Greater(t, tries, unreached)
}
