package triage

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStepsThatLagBehindTheSameStepElsewhere(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1))
	var all []StepTook
	for run := range 3 {
		for test := range 8 {
			for _, pane := range []string{"chromium", "firefox", "webkitgtk", "kestrel", "osprey"} {
				for step := range 6 {
					ms := 200 + 40*float64(step)
					if pane == "kestrel" { // slow at everything: that is its own pace
						ms *= 3
					}
					if test == 2 && step == 4 && (pane == "firefox" || pane == "webkitgtk") {
						ms *= 6
					}
					if test == 5 && step == 1 && pane == "osprey" && run == 1 {
						ms *= 20 // once
					}
					if test == 6 && step == 0 && pane == "osprey" {
						ms = 40 // faster is no lag
					}
					ms *= 0.8 + 0.4*r.Float64()
					all = append(all, StepTook{Test: fmt.Sprintf("Berth %d", test), Step: fmt.Sprintf("step %d", step/2), Nth: step % 2, Pane: pane,
						MS: int64(ms)})
				}
			}
		}
	}
	got := Lags(all)
	require.Len(t, got, 1)
	assert.Equal(t, []any{"Berth 2", "step 2", 0}, []any{got[0].Test, got[0].Step, got[0].Nth})
	assert.ElementsMatch(t, []string{"firefox", "webkitgtk"}, got[0].Panes)
	assert.InDelta(t, 2160, got[0].MS, 400)
	assert.InDelta(t, 6, got[0].Ratio, 2)

	for name, few := range map[string][]StepTook{
		"nothing": nil,
		"two combinations: nobody knows which is the odd one": {{"a", "s", 0, "x", 100}, {"a", "s", 0, "y", 9000}},
		"too little": {{"a", "s", 0, "x", 0}, {"a", "s", 0, "y", 1}, {"a", "s", 0, "z", 290}},
	} {
		assert.Empty(t, Lags(few), name)
	}
}

func TestRequestsThatTakeLongerWhereATestFails(t *testing.T) {
	cell := func(ms ...float64) (out []Timing) {
		for i, took := range ms {
			out = append(out, Timing{Noticed{Kind: InTime, Text: []string{"GET /office", "GET /map.js", "POST /hold"}[i], Attempt: "a"}, took})
		}
		return
	}
	for name, c := range map[string]struct {
		failing, passing [][]Timing
		want             []string
	}{
		"slow in all that fail": {[][]Timing{cell(2500, 30, 3100), cell(2600, 900, 4000)}, [][]Timing{cell(200, 40, 1000), cell(90, 20, 300)},
			[]string{"GET /office takes 2.5 s and more, 0.2 s at most where it passes",
				"POST /hold takes 3.1 s and more, 1.0 s at most where it passes"}},
		"slow where it passes too":   {[][]Timing{cell(2500)}, [][]Timing{cell(90), cell(2000)}, nil},
		"not in every one":           {[][]Timing{cell(2500), {}}, [][]Timing{cell(90)}, nil},
		"too little":                 {[][]Timing{cell(500)}, [][]Timing{cell(50)}, nil},
		"nothing to compare it with": {[][]Timing{cell(2500)}, nil, nil},
		"the longest of several": {[][]Timing{append(cell(10), cell(2500)...)}, [][]Timing{append(cell(100), cell(10)...)},
			[]string{"GET /office takes 2.5 s and more, 0.1 s at most where it passes"}},
	} {
		var got []string
		for _, e := range Slow(c.failing, c.passing) {
			got = append(got, e.Text)
		}
		assert.Equal(t, c.want, got, name)
	}
}
