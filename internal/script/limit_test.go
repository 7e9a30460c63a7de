package script

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/verdict"
)

// A step that takes longer than its limit is told to be slow, and fails only where it is to.
func TestStepsOverTheirLimits(t *testing.T) {
	at := time.Unix(0, 0)
	clock := func() time.Time { at = at.Add(100 * time.Millisecond); return at } // each look at it takes a while
	out, _ := run(t, &page{looks: []Sight{seen(shown)}}, "  - {click: Hold, limit: 50ms}\n  - {click: Hold, limit: 1m}\n  - click: Hold\n",
		Setting{Clock: clock})
	require.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.EqualValues(t, 50, out.Steps[0].OverMS)
	assert.Zero(t, out.Steps[1].OverMS)
	assert.Zero(t, out.Steps[2].OverMS)
	out, n := run(t, &page{looks: []Sight{seen(shown)}}, "  - {click: Hold, limit: {time: 50ms, fail: true}}\n", Setting{Clock: clock})
	assert.Equal(t, verdict.Failed, out.Verdict)
	assert.Regexp(t, `^it took \d+ ms; its limit is 50 ms$`, out.Message)
	assert.Equal(t, []string{"failure"}, n.shots)
	out, _ = run(t, &page{looks: []Sight{{}}}, "  - {click: Hold, limit: 50ms}\n", Setting{Clock: clock})
	assert.Zero(t, out.Steps[0].OverMS, "a step that fails is not slow besides")

	for src, want := range map[string]string{"limit: soon": "limit: ", "limit: {fail: true}": "limit: expected a time such as 2s",
		"limit: {time: 2s, fail: perhaps}": `fail: expected true or false, found "perhaps"`, "limit: {tme: 2s}": `unknown`} {
		_, err := Parse("t.pane.yaml", []byte("name: T\nsteps:\n  - {click: Hold, "+src+"}\n"), nil)
		assert.ErrorContains(t, err, want, src)
	}
}
