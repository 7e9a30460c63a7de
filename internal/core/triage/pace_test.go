package triage

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func series(r *rand.Rand, runs, turn int, ratio float64) (all []Took) {
	for run := 1; run <= runs; run++ {
		for p, base := range []float64{1000, 1500, 4000} {
			if r.IntN(5) == 0 {
				continue
			}
			ms := base * (0.85 + 0.3*r.Float64())
			if turn > 0 && run >= turn {
				ms *= ratio
			}
			all = append(all, Took{Run: run, Pane: fmt.Sprint("p", p), MS: int64(ms)})
		}
	}
	return all
}

func TestTheRunInWhichATestChanged(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	right, wrong := 0, 0
	const times = 200
	for range times {
		turn := 5 + r.IntN(12)
		got, ok := TurnOf(series(r, 20, turn, 1.5))
		if ok && got.Run >= turn-1 && got.Run <= turn+1 && got.Ratio > 1.3 {
			right++
		}
		if _, ok := TurnOf(series(r, 20, 0, 1)); ok {
			wrong++
		}
	}
	t.Log(right, wrong, "of", times)
	assert.GreaterOrEqual(t, right, times*95/100)
	assert.LessOrEqual(t, wrong, times*2/100)
	got, ok := TurnOf(series(r, 20, 10, 0.5))
	require.True(t, ok)
	assert.Less(t, got.IsMS, got.WasMS)
	_, ok = TurnOf(series(r, 4, 2, 9))
	assert.False(t, ok, "too few runs")
	_, ok = TurnOf(nil)
	assert.False(t, ok)
}

func TestPacesOfCombinations(t *testing.T) {
	of := func(a, b, c int64) []Took { return []Took{{1, "chromium", a}, {1, "firefox", b}, {1, "webkitgtk", c}} }
	got := Paces(map[string][]Took{"x": of(1000, 2000, 1100), "y": of(500, 1000, 490), "z": {{1, "firefox", 9}}})
	require.Len(t, got, 3)
	assert.Equal(t, "firefox", got[0].Pane)
	assert.InDelta(t, 1.9, got[0].Ratio, 0.15)
	assert.Equal(t, 2, got[0].Tests)
}
