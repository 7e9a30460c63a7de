package store

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// The last twenty runs of each cell of a wall of 500 tests × 60 combinations.
func BenchmarkPastOfAWall(b *testing.B) {
	s, err := Open(b.TempDir())
	require.NoError(b, err)
	defer s.Close()
	var panes []Pane
	var tests []Test
	for i := range 60 {
		panes = append(panes, Pane{Index: i, Key: fmt.Sprint("k", i), Label: "l", Values: "{}", Needs: "{}"})
	}
	for i := range 500 {
		tests = append(tests, Test{Index: i, Name: fmt.Sprint("t", i), Tags: "[]", Locks: "[]"})
	}
	for run := range 3 {
		batch := AddRun(script(run+1, "desk"), panes, tests)
		for p := range panes {
			for t := range tests {
				batch = append(batch, Settle(Cell{Run: run + 1, Pane: p, Test: t, Verdict: "passed", Attempts: 1})...)
			}
		}
		require.NoError(b, s.Write(batch...))
	}
	_, err = s.read.ExecContext(b.Context(), `SELECT 1`)
	require.NoError(b, err)
	require.NoError(b, s.Write(Do(`UPDATE past SET runs = substr(runs || runs || runs || runs || runs || runs || runs, 1, 140)`)))
	for b.Loop() {
		all, err := s.PastOf(b.Context(), 3)
		if err != nil || len(all) != 30_000 {
			b.Fatal(len(all), err)
		}
	}
}
