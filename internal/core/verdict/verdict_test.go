package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestOfAttempts(t *testing.T) {
	for _, tc := range []struct {
		attempts []Verdict
		want     Verdict
	}{
		{nil, Pending},
		{[]Verdict{Passed}, Passed},
		{[]Verdict{Failed}, Failed},
		{[]Verdict{Failed, Passed}, Flaky},
		{[]Verdict{Failed, Failed}, Failed},
		{[]Verdict{Broken}, Broken},
		{[]Verdict{Broken, Passed}, Passed},
		{[]Verdict{Broken, Failed}, Failed},
		{[]Verdict{Failed, Broken}, Failed},
		{[]Verdict{Failed, Broken, Passed}, Flaky},
		{[]Verdict{Skipped}, Skipped},
		{[]Verdict{Ended}, Ended},
		{[]Verdict{Broken, Ended}, Ended},
		{[]Verdict{Failed, Ended}, Failed},
		{[]Verdict{Ended, Passed}, Passed},
		{[]Verdict{Failed, Ended, Passed}, Flaky},
	} {
		assert.Equal(t, tc.want, OfAttempts(tc.attempts), "%v", tc.attempts)
	}
}

func TestOverAndExitCode(t *testing.T) {
	for _, tc := range []struct {
		counts Counts
		over   Verdict
		exit   int
	}{
		{Counts{Passed: 3}, Passed, ExitPassed},
		{Counts{Passed: 3, Flaky: 1}, Flaky, ExitPassed},
		{Counts{Passed: 3, Unsupported: 1}, Passed, ExitPassed},
		{Counts{Passed: 3, Broken: 1}, Broken, ExitLab},
		{Counts{Failed: 1, Broken: 1}, Failed, ExitFailed},
		{Counts{Unsupported: 2}, Unsupported, ExitLab},
		{Counts{Skipped: 2}, Skipped, ExitLab},
		{Counts{Passed: 3, Ended: 1}, Ended, ExitLab},
		{Counts{Failed: 1, Ended: 1}, Failed, ExitFailed},
		{Counts{Pending: 1, Failed: 1}, Pending, ExitFailed},
		{Counts{}, Pending, ExitLab},
	} {
		assert.Equal(t, tc.over, tc.counts.Over(), "%v", tc.counts)
		assert.Equal(t, tc.exit, tc.counts.ExitCode(), "%v", tc.counts)
	}
}

func TestBrokenNeverHidesAPassOrFailure(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		attempts := rapid.SliceOfN(rapid.SampledFrom([]Verdict{Passed, Failed, Broken}), 1, 6).Draw(t, "attempts")
		var without []Verdict
		for _, v := range attempts {
			if v != Broken {
				without = append(without, v)
			}
		}
		got := OfAttempts(attempts)
		if len(without) == 0 {
			assert.Equal(t, Broken, got)
			return
		}
		assert.Equal(t, OfAttempts(without), got)
	})
}

func TestParse(t *testing.T) {
	v, err := Parse("flaky")
	assert.NoError(t, err)
	assert.Equal(t, Flaky, v)
	_, err = Parse("green")
	assert.ErrorContains(t, err, `unknown verdict "green"`)
}
