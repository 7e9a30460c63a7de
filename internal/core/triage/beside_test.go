package triage

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/attempt"
)

func TestStepsBesideEachOther(t *testing.T) {
	step := func(title string, state attempt.State, ms int64, matched string) attempt.Step {
		return attempt.Step{Title: title, State: state, TookMS: ms, Matched: matched}
	}
	left := []attempt.Step{step("visit /", attempt.Passed, 100, ""), step("menu", attempt.Passed, 50, ""),
		step("click Tides", attempt.Passed, 2000, `<a> "Tides" visible at 10,20, 30×40`), step("expect High", attempt.Failed, 6000, "")}
	right := []attempt.Step{step("visit /", attempt.Passed, 120, ""),
		step("click Tides", attempt.Passed, 90, `<a> "Tides" visible at 1,2, 3×4`),
		step("expect High", attempt.Passed, 10, ""), step("expect Low", attempt.Unrun, 0, "")}
	rows, first := Align(left, right)
	assert.Equal(t, []Aligned{
		{"visit /", 0, 0, []string{}}, {"menu", 1, -1, []string{"state"}}, {"click Tides", 2, 1, []string{"time"}},
		{"expect High", 3, 2, []string{"state"}}, {"expect Low", -1, 3, []string{"state"}},
	}, rows)
	assert.Equal(t, 1, first)
	rows, first = Align(left[2:], []attempt.Step{step("click Tides", attempt.Passed, 1900, `<button> "Tides" visible at 1,2, 3×4`), left[3]})
	assert.Equal(t, []string{"element"}, rows[0].Differs)
	assert.Zero(t, first)
	rows, first = Align(right, right)
	assert.Len(t, rows, 4)
	assert.Equal(t, -1, first)
	rows, first = Align(nil, nil)
	assert.Empty(t, rows)
	assert.Equal(t, -1, first)
}
