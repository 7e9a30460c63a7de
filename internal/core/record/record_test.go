package record

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/verdict"
)

func TestNarrowerPoliciesComeFirst(t *testing.T) {
	p := Over(Policy{Video: Always}, Policy{Video: Never, Network: Always}, Default(true))
	assert.Equal(t, Policy{Commands: Always, Screenshots: UnlessPassed, Video: Always, Network: Always, Console: Never, Logs: Always,
		Downloads: Always}, p)
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
	p := Policy{Video: UnlessPassed, Logs: Always, Console: Never}
	for _, c := range []struct {
		kind Kind
		v    verdict.Verdict
		want bool
	}{
		{Video, verdict.Passed, false}, {Video, verdict.Failed, true}, {Video, verdict.LabFault, true}, {Video, verdict.Ended, true},
		{Logs, verdict.Passed, true}, {Console, verdict.Failed, false}, {Network, verdict.Failed, false},
	} {
		assert.Equal(t, c.want, p.Keeps(c.kind, c.v), "%s %s", c.kind, c.v)
	}
	assert.True(t, p.Wants(Video))
	assert.False(t, p.Wants(Console))
	assert.False(t, p.Wants(Commands))
}

func TestParse(t *testing.T) {
	p, err := Parse([]string{"always", "video=unless-passed"})
	assert.NoError(t, err)
	assert.Equal(t, Always, p[Logs])
	assert.Equal(t, UnlessPassed, p[Video])
	for words, says := range map[string]string{"sound=always": `no recording "sound"`,
		"video=daily": `video: expected never, always, unless-passed, found "daily"`, "maybe": "expected never, always, unless-passed"} {
		_, err := Parse([]string{words})
		assert.ErrorContains(t, err, says)
	}
}
