package lab

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
	"parallelpane/internal/webdriver"
)

// session opens a session as an agent would have it open, under a run's name.
func (y *yard) session(run, test string) *remoteSession {
	y.t.Helper()
	x, err := y.askSession(y.t.Context(), api.Who{Name: "ci", Rights: api.InLab(api.Runner)},
		fmt.Appendf(nil, `{"capabilities":{"alwaysMatch":{"browserName":"chromium","pane:options":{"run":%q,"test":%q}}}}`, run, test))
	require.NoError(y.t, err)
	y.opened(x, y.leaseOf(x), link.SessionOpen{Browser: "chromium", Version: "156"})
	require.Equal(y.t, openState, x.row.State)
	return x
}

func (y *yard) leaseOf(x *remoteSession) dispatch.Lease {
	y.mu.Lock()
	defer y.mu.Unlock()
	return y.leases[x.row.Fence].Lease
}

func (y *yard) resultOf(x *remoteSession, v verdict.Verdict) link.Result {
	return link.Result{ID: x.row.ID, Fence: x.row.Fence, Agent: "quay", Verdict: v, Detail: attempt.Detail{End: "deleted by its client"}}
}

// A run whose files are gone, or are refused by now, is set aside with a note;
// everything else goes on.
func TestAStartTakesUpEachRunByItself(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	x := y.session("nightly", "Tides")
	gone, kept := y.submit(2, 1, api.RunRequest{}), y.submit(3, 1, api.RunRequest{})
	var lease grant
	for _, g := range y.granted("quay") {
		if g.Run == gone.ID {
			lease = g
		}
	}
	got, err := y.Result("quay", link.Result{ID: lease.ids[0], Fence: lease.Fence, Test: lease.Tests[0], Attempt: 1,
		Agent: "quay", Verdict: verdict.Passed})
	require.NoError(t, err)
	require.True(t, got.Accepted)
	delete(y.orders, gone.ID)
	y.reopen()
	aside, err := y.Run(t.Context(), gone.Number)
	require.NoError(t, err)
	assert.Equal(t, api.Ended, aside.State)
	assert.Equal(t, verdict.Counts{verdict.Passed: 1, verdict.LabFault: 3}, aside.Counts)
	assert.Contains(t, aside.Why, "set aside when the service was started again: its files are gone")
	assert.Equal(t, aside.Why, aside.Cells[1][1].Why)
	goesOn, err := y.Run(t.Context(), kept.Number)
	require.NoError(t, err)
	assert.NotEqual(t, api.Ended, goesOn.State)
	s, err := y.Session(t.Context(), x.row.ID)
	require.NoError(t, err)
	assert.Equal(t, openState, s.State)

	// Records that an older service left in disorder: the session's run has ended.
	require.NoError(t, y.store.Write(store.EndRun(x.row.Run, "passed", "{}", "[]", 9)))
	y.reopen()
	s, err = y.Session(t.Context(), x.row.ID)
	require.NoError(t, err)
	assert.Equal(t, endedState, s.State)
	assert.Equal(t, verdict.LabFault, s.Verdict)
}

// The next session of a run is asked for before the end of the last one, and with
// it the run's, is on disk.
func TestARunOfSessionsGoesOnWhileItsEndIsBeingWritten(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	const sessions = 40
	for i := range sessions {
		x := y.session("nightly", "Tides")
		y.mu.Lock()
		res := y.resultOf(x, verdict.Passed)
		accepted, e := y.remoteResultLocked(x, res, walls.Pack(res.Detail))
		y.mu.Unlock()
		require.True(t, accepted)
		if i%3 == 0 { // the others' ends are still queued when the next session comes
			require.NoError(t, y.carryOut(e))
		}
	}
	run, err := y.Run(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, api.Ended, run.State)
	assert.Equal(t, verdict.Passed, run.Verdict)
	assert.Equal(t, sessions, run.Cells[0][0].Attempts)
	y.reopen()
	again, err := y.Run(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, run.Counts, again.Counts)
}

// A result that is sent again is answered when the first is on disk, for its
// sender then drops its copy; so is whatever else makes an agent drop one.
func TestNoAnswerMakesAnAgentDropAResultThatIsNotOnDisk(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	y.submit(1, 1, api.RunRequest{Limit: 1})
	var g grant
	for _, g = range y.granted("quay") {
	}
	r := link.Result{ID: g.ids[0], Fence: g.Fence, Test: g.Tests[0], Agent: "quay", Verdict: verdict.Passed}
	y.mu.Lock()
	accepted, ds := y.machine.Result(y.now, g.Fence, g.Tests[0], dispatch.Outcome{Verdict: verdict.Passed})
	require.True(t, accepted)
	y.mu.Unlock()
	for name, ask := range map[string]func() error{
		"the same result again": func() error {
			answer, err := y.Result("quay", r)
			require.False(t, answer.Accepted)
			return err
		},
		"a beat": func() error {
			_, err := y.Beat("quay", link.Beat{Name: "quay", Instance: "quay", Held: []int64{g.Fence}})
			return err
		},
		"a start": func() error {
			err := y.Started("quay", link.Started{Fence: g.Fence, Test: g.Tests[0]})
			require.Error(t, err)
			return nil
		},
	} {
		for i := range 200 { // more than are written at once
			id := fmt.Sprint(name, i)
			y.store.Enqueue(store.AddToken(store.Token{ID: id, Name: id, Rights: "[]", Hash: []byte(id)}))
		}
		require.NoError(t, ask(), name)
		_, err := y.store.TokenByHash(t.Context(), fmt.Append(nil, name, 199))
		assert.NoError(t, err, "%s: the answer came before what had been taken was on disk", name)
	}
	y.mu.Lock()
	e := y.applyLocked(ds)
	y.mu.Unlock()
	require.NoError(t, y.carryOut(e))
}

// The lab and the remote end that stands in for Firefox's driver process
// capabilities alike: what one would serve, so would the other.
func TestBothCapabilityProcessorsAgree(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.mu.Lock()
	a := &agentConn{name: "quay", instance: "quay", machine: fleet.Machine{OS: "linux", Slots: 2, Isolation: fleet.Sandbox,
		Browsers: []fleet.Browser{{Name: "firefox", Engine: "gecko", Version: "153.7.0", Fits: true}}}}
	y.agents["quay"] = a
	e := y.applyLocked(y.machine.Join(y.now, a.forDispatch(), nil))
	y.mu.Unlock()
	require.NoError(t, y.carryOut(e))
	offer := webdriver.Offer{Browser: "firefox", Version: "153.7.0", Platform: "linux", BiDi: true, Insecure: true,
		Others: webdriver.OtherPrefixes("firefox", "gecko")}
	pool := map[string][]any{"browserName": {"firefox", "chromium", "puffin"}, "browserVersion": {"153", "153.7.0", "15", "140"},
		"platformName":        {"linux", "LINUX", "windows", "mac"},
		"acceptInsecureCerts": {true, false}, "webSocketUrl": {true, false}, "strictFileInteractability": {true, false},
		"pageLoadStrategy":   {"none", "eager"},
		"moz:firefoxOptions": {map[string]any{}}, "goog:chromeOptions": {map[string]any{}}, "test:extension": {"abc", 123.0, false,
			map[string]any{"key": "value"}}}
	names := slices.Sorted(maps.Keys(pool))
	rapid.Check(t, func(t *rapid.T) {
		draw := func() webdriver.Capabilities {
			caps := webdriver.Capabilities{}
			for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom(names), 0, 5, rapid.ID).Draw(t, "names") {
				caps[name] = rapid.SampledFrom(pool[name]).Draw(t, name)
			}
			return caps
		}
		first := []webdriver.Capabilities{draw(), draw()}
		raw, err := json.Marshal(map[string]any{"capabilities": map[string]any{"firstMatch": first}})
		require.NoError(t, err)
		alternatives, err := webdriver.Alternatives(raw)
		require.NoError(t, err)
		want, wantErr := offer.Choose(alternatives)
		_, got, gotErr := y.choose(api.Who{Rights: api.InLab(api.Runner)}, alternatives)
		require.Equal(t, webdriver.CodeOf(wantErr), webdriver.CodeOf(gotErr), "%s: %v, %v", raw, wantErr, gotErr)
		require.Equal(t, want, got)
	})
}

// Of tests that nobody has seen, a first estimate comes from what the lab has seen
// of others.
func TestUnknownTestsAreGuessedFromTheOthers(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	assert.InDelta(t, noGuess, y.guess(t.Context()), 0, "nothing has run yet")
	y.submit(3, 1, api.RunRequest{})
	for range 6 {
		for _, g := range y.granted("quay") {
			for i, test := range g.Tests {
				_, err := y.Result("quay", link.Result{ID: g.ids[i], Fence: g.Fence, Test: test, Agent: "quay",
					Verdict: verdict.Passed, TookMS: 2000 + int64(test)})
				require.NoError(t, err)
			}
		}
	}
	y.now = y.now.Add(typicalFor + time.Second)
	assert.InDelta(t, 2.001, y.guess(t.Context()), 0.0001, "the middle of what was seen")
}
