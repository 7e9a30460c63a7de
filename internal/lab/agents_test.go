package lab

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
)

// Whatever an agent says its browser is called, lists show the beginning of it, and
// no more is kept where texts are found by their contents.
func TestWhatAnAgentSaysItRanOnIsShort(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	y.submit(1, 1, api.RunRequest{})
	for _, g := range y.granted("quay") {
		got, err := y.Result("quay", link.Result{ID: g.ids[0], Fence: g.Fence, Test: g.Tests[0], Agent: "quay", Verdict: verdict.Passed,
			StartedAt: y.now.UnixMilli(), Sessions: 1,
			Detail: attempt.Detail{Browser: strings.Repeat("kestrel", 100_000), Version: strings.Repeat("1", 1<<20)}})
		require.NoError(t, err)
		require.True(t, got.Accepted)
	}
	all, err := y.Sessions(t.Context(), api.SessionFilter{})
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, s := range all {
		assert.True(t, strings.HasPrefix(s.Browser, "kestrel"))
		assert.Less(t, len(s.Browser)+len(s.Version), 3*maxRanOn)
	}
}

// Whatever an agent says of an attempt's sessions, there are at most as many as ids
// can tell apart, and its files are of these.
func TestSessionsThatAnAttemptCannotHave(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	run := y.submit(2, 1, api.RunRequest{})
	for range 4 {
		for _, g := range y.granted("quay") {
			for i, test := range g.Tests {
				of := []int{-3, 1 << 40}[test]
				_, err := y.Result("quay", link.Result{ID: g.ids[i], Fence: g.Fence, Test: test, Agent: "quay", Verdict: verdict.Passed, Sessions: of,
					Files: []attempt.File{{Name: "agent.log", Kind: "logs", Hash: y.file("a log"), Size: 5, Session: of}}})
				require.NoError(t, err)
			}
		}
	}
	for test, want := range []int{0, attempt.MaxSessions} {
		got, err := y.TestOfRun(t.Context(), run.Number, test)
		require.NoError(t, err)
		a := got.Results[0].Attempts[0]
		assert.Len(t, a.Sessions, want)
		assert.Equal(t, want, a.Files[0].Session)
	}
}

// An agent describes its machine in few words, whoever it is.
func TestWhatAnAgentSaysOfItsMachineIsBounded(t *testing.T) {
	y := openYard(t, t.TempDir())
	long, longer := strings.Repeat("x", maxFact+1), strings.Repeat("x", maxSaid+1)
	fits := func(m fleet.Machine) error {
		m.Slots = 1
		return y.MayJoin(link.Hello{Name: "quay", Instance: "i", Machine: m})
	}
	require.NoError(t, fits(fleet.Machine{Browsers: []fleet.Browser{{Name: "kestrel", Problem: long}}}))
	for what, m := range map[string]fleet.Machine{
		"system": {OSVersion: long}, "model": {Model: long}, "label": {Labels: map[string]string{"site": long}}, "exposed": {Exposed: longer},
		"browser": {Browsers: []fleet.Browser{{Version: long}}}, "path": {Browsers: []fleet.Browser{{Path: longer}}},
		"problem": {Browsers: []fleet.Browser{{Problem: longer}}}, "driver": {Drivers: []fleet.Driver{{Version: long}}},
		"remedy": {Drivers: []fleet.Driver{{Remedy: longer}}}, "serves": {Drivers: []fleet.Driver{{Serves: []string{long}}}},
		"browsers": {Browsers: make([]fleet.Browser, maxBrowsers+1)},
	} {
		assert.ErrorContains(t, fits(m), "agent quay", what)
	}
}
