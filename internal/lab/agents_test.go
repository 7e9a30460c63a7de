package lab

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
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
		got, err := y.Result(link.Result{ID: g.ids[0], Fence: g.Fence, Test: g.Tests[0], Agent: "quay", Verdict: verdict.Passed,
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
