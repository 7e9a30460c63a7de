package record

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/verdict"
)

func TestNarrowerPoliciesComeFirst(t *testing.T) {
	p := Over(Policy{Video: On}, Policy{Video: Off, Network: On}, Default(true))
	assert.Equal(t, Policy{Commands: On, Screenshots: OnFailure, Video: On, Network: On, Console: Off, Logs: On}, p)
	assert.NoError(t, p.Check())
	for _, remote := range []bool{true, false} {
		d := Default(remote)
		assert.NoError(t, d.Check())
		for _, k := range Kinds {
			assert.Contains(t, d, k, "the default settles every kind")
		}
	}
}

func TestWhatIsKept(t *testing.T) {
	p := Policy{Video: OnFailure, Logs: On, Console: Off}
	for _, c := range []struct {
		kind Kind
		v    verdict.Verdict
		want bool
	}{
		{Video, verdict.Passed, false}, {Video, verdict.Failed, true}, {Video, verdict.Broken, true}, {Video, verdict.Ended, true},
		{Logs, verdict.Passed, true}, {Console, verdict.Failed, false}, {Network, verdict.Failed, false},
	} {
		assert.Equal(t, c.want, p.Keeps(c.kind, c.v), "%s %s", c.kind, c.v)
	}
	assert.True(t, p.Wants(Video))
	assert.False(t, p.Wants(Console))
	assert.False(t, p.Wants(Commands))
}

func TestParse(t *testing.T) {
	p, err := Parse([]string{"on", "video=failure"})
	assert.NoError(t, err)
	assert.Equal(t, On, p[Logs])
	assert.Equal(t, OnFailure, p[Video])
	for words, says := range map[string]string{"sound=on": `no recording "sound"`, "video=always": `video: expected off, on, failure, found "always"`, "maybe": "expected off, on, failure"} {
		_, err := Parse([]string{words})
		assert.ErrorContains(t, err, says)
	}
}
