package dispatch

import (
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
		r.Panes = append(r.Panes, Pane{Needs: fleet.Needs{"browser": {b}}, Tests: make([]Test, tests)})
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

	ok, ds := m.Result(t0, leases[0].Fence, 0, verdict.Passed)
	assert.True(t, ok)
	assert.Equal(t, []Decision{Settled{Run: "r", Pane: leases[0].Pane, Verdict: verdict.Passed}, Closed{Fence: leases[0].Fence}}, ds)

	ok, _ = m.Result(t0, leases[0].Fence, 0, verdict.Failed)
	assert.False(t, ok, "a second result for the same test does not count")

	_, ds = m.Result(t0, leases[1].Fence, 0, verdict.Failed)
	assert.Equal(t, []Over{{Run: "r"}}, only[Over](ds))
	assert.False(t, m.Live("r"))
}

func TestRetryMakesFlaky(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	r := runOf("r", 1, "chromium")
	r.Retries = 1
	first := only[Lease](m.Submit(t0, r))[0]
	_, ds := m.Result(t0, first.Fence, 0, verdict.Failed)
	second := only[Lease](ds)[0]
	assert.Equal(t, []int{2}, second.Attempt)
	_, ds = m.Result(t0, second.Fence, 0, verdict.Passed)
	assert.Equal(t, verdict.Flaky, only[Settled](ds)[0].Verdict)
}

func TestLabFaultMovesToAnotherAgentAndGivesUpInTheEnd(t *testing.T) {
	m := New(Config{}, 0)
	m.Join(t0, agentWith("pier", 1, "chromium"), nil)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 1, "chromium")))[0]
	seen := []string{l.Agent}
	for {
		_, ds := m.Result(t0, l.Fence, 0, verdict.Broken)
		if s := only[Settled](ds); len(s) > 0 {
			assert.Equal(t, verdict.Broken, s[0].Verdict)
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
	l := only[Lease](m.Submit(t0, runOf("r", 8, "chromium")))[0]
	require.Len(t, l.Tests, 4)
	require.True(t, m.Started(l.Fence, l.Tests[0]))
	ok, _ := m.Result(t0, l.Fence, l.Tests[0], verdict.Passed)
	require.True(t, ok)
	require.True(t, m.Started(l.Fence, l.Tests[1]))
	m.Leave(t0, "quay")

	assert.Empty(t, m.Tick(after(15*time.Second)), "a lease lives for its whole time")
	ds := m.Tick(after(16 * time.Second))
	lost := only[Lost](ds)
	require.Len(t, lost, 1)
	assert.Equal(t, l.Tests[1], lost[0].Test)
	assert.Equal(t, "agent quay stopped answering", lost[0].Why)

	ok, _ = m.Result(after(17*time.Second), l.Fence, l.Tests[2], verdict.Passed)
	assert.False(t, ok, "an ended lease's result does not count")
	assert.Equal(t, []int64{l.Fence}, m.Renew(after(17*time.Second), "quay", []int64{l.Fence}))
	queued, leased := m.Depth()
	assert.Equal(t, 7, queued)
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
	ok, _ := m.Result(after(6*time.Second), ls[0].Fence, ls[0].Tests[0], verdict.Passed)
	assert.True(t, ok)
}

func TestWorkNobodyCanDo(t *testing.T) {
	m := New(Config{}, 0)
	m.Know(agentWith("pier", 1, "webkit"))
	ds := m.Submit(t0, runOf("r", 2, "chromium", "webkit"))
	s := only[Settled](ds)
	require.Len(t, s, 2, "the pane that an offline agent could serve waits")
	assert.Equal(t, verdict.Unsupported, s[0].Verdict)
	assert.Contains(t, s[0].Why, "no agent has browser=chromium; nearest: pier")

	assert.Empty(t, m.Tick(after(5*time.Minute)))
	ds = m.Tick(after(5*time.Minute + time.Second))
	s = only[Settled](ds)
	require.Len(t, s, 2)
	assert.Equal(t, verdict.Broken, s[0].Verdict)
	assert.Contains(t, s[0].Why, "no agent with browser=webkit was online for 5m0s")
	assert.Len(t, only[Over](ds), 1)
}

func TestCancelSkipsWhatIsLeftAndKeepsWhatIsKnown(t *testing.T) {
	m := New(Config{MaxSlice: 2}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	l := only[Lease](m.Submit(t0, runOf("r", 4, "chromium")))[0]
	m.Result(t0, l.Fence, l.Tests[0], verdict.Passed)
	ds := m.Cancel(t0, "r", "cancelled by kestrel")
	assert.Len(t, only[End](ds), 1)
	for _, s := range only[Settled](ds) {
		assert.Equal(t, verdict.Skipped, s.Verdict)
		assert.Equal(t, "cancelled by kestrel", s.Why)
	}
	assert.Len(t, only[Settled](ds), 3)
	assert.Len(t, only[Over](ds), 1)
	used, _, _ := m.Load("quay")
	assert.Zero(t, used)
}

func TestGivingBackTheLastLeaseEndsTheRun(t *testing.T) {
	m := New(Config{LabTries: 1}, 0)
	m.Join(t0, agentWith("quay", 1, "chromium"), nil)
	first := only[Lease](m.Submit(t0, runOf("r", 1, "chromium")))[0]
	second := only[Lease](m.Done(t0, first.Fence, "no disk"))[0]
	ds := m.Done(t0, second.Fence, "no disk")
	assert.Equal(t, verdict.Broken, only[Settled](ds)[0].Verdict)
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
	m.Know(agentWith("quay", 1, "chromium"))
	r := runOf("r", 3, "chromium")
	r.Panes[0].Tests[0] = Test{Past: []verdict.Verdict{verdict.Passed}, Settled: true}
	m.Restore(t0, r, []Lease{{Fence: 41, Agent: "quay", Run: "r", Tests: []int{0, 1}}})
	m.Join(t0, agentWith("quay", 1, "chromium"), []int64{41})
	ok, ds := m.Result(t0, 41, 1, verdict.Passed)
	assert.True(t, ok)
	next := only[Lease](ds)[0]
	assert.Equal(t, int64(42), next.Fence)
	assert.Equal(t, []int{2}, next.Tests)
}
