package link

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
)

// However long what a result says, it fits, keeps its verdict, and says what was
// cut.
func TestResultsFit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := Result{Verdict: verdict.Failed, TookMS: 7, Message: strings.Repeat("ebb ", rapid.IntRange(0, 20_000).Draw(t, "message")),
			Detail: attempt.Detail{Browser: "firefox", Given: json.RawMessage(`"` + strings.Repeat("x", rapid.IntRange(0,
				3<<20).Draw(t, "given")) + `"`)}}
		long := strings.Repeat("ü", rapid.IntRange(0, 100_000).Draw(t, "step"))
		for i := range rapid.SampledFrom([]int{0, 3, 100, 30_000}).Draw(t, "steps") {
			s := attempt.Step{Index: i, State: attempt.Failed, TookMS: 3}
			if i < 100 {
				s.Message, s.Matched = long, long
			}
			r.Detail.Steps = append(r.Detail.Steps, s)
		}
		got := r.Fit()
		raw, err := json.Marshal(got)
		require.NoError(t, err)
		require.LessOrEqual(t, len(raw), attempt.MaxDetail+attempt.MaxMessage+1000)
		require.Equal(t, verdict.Failed, got.Verdict)
		before, err := json.Marshal(r.Detail)
		require.NoError(t, err)
		require.Equal(t, len(before) > attempt.MaxDetail, len(got.Detail.Cut) > 0)
		require.Equal(t, got, got.Fit(), "what fits is left as it is")
		if len(r.Detail.Steps) <= 100 {
			require.Len(t, got.Detail.Steps, len(r.Detail.Steps))
		}
		require.True(t, utf8.ValidString(got.Message))
	})
}

func TestClip(t *testing.T) {
	assert.Equal(t, "tide", attempt.Clip("tide", 4))
	assert.Equal(t, "ti …", attempt.Clip("tide", 2))
	assert.Equal(t, "t …", attempt.Clip("tü", 2), "no half character")
}
