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
		{[]Verdict{Flaky}, Flaky},
		{[]Verdict{Flaky, Failed}, Failed},
		{[]Verdict{LabFault, Flaky}, Flaky},
		{[]Verdict{Failed, Failed}, Failed},
		{[]Verdict{LabFault}, LabFault},
		{[]Verdict{LabFault, Passed}, Passed},
		{[]Verdict{LabFault, Failed}, Failed},
		{[]Verdict{Failed, LabFault}, Failed},
		{[]Verdict{Failed, LabFault, Passed}, Flaky},
		{[]Verdict{Skipped}, Skipped},
		{[]Verdict{Ended}, Ended},
		{[]Verdict{LabFault, Ended}, Ended},
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
		{Counts{Passed: 3, LabFault: 1}, LabFault, ExitLab},
		{Counts{Failed: 1, LabFault: 1}, Failed, ExitFailed},
		{Counts{Unsupported: 2}, Unsupported, ExitLab},
		{Counts{Skipped: 2}, Skipped, ExitLab},
		{Counts{Passed: 3, Ended: 1}, Ended, ExitLab},
		{Counts{Failed: 1, Ended: 1}, Failed, ExitFailed},
		{Counts{Pending: 1, Failed: 1}, Pending, ExitFailed},
		{Counts{Passed: 3, Aside: 2}, Passed, ExitPassed},
		{Counts{Aside: 2}, Aside, ExitPassed},
		{Counts{Aside: 2, LabFault: 1}, LabFault, ExitLab},
		{Counts{}, Pending, ExitLab},
	} {
		assert.Equal(t, tc.over, tc.counts.Over(), "%v", tc.counts)
		assert.Equal(t, tc.exit, tc.counts.ExitCode(), "%v", tc.counts)
	}
}

func TestALabFaultNeverHidesAPassOrFailure(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		attempts := rapid.SliceOfN(rapid.SampledFrom([]Verdict{Passed, Failed, LabFault}), 1, 6).Draw(t, "attempts")
		var without []Verdict
		for _, v := range attempts {
			if v != LabFault {
				without = append(without, v)
			}
		}
		got := OfAttempts(attempts)
		if len(without) == 0 {
			assert.Equal(t, LabFault, got)
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
