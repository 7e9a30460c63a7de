package lab

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
)

// What agents offered while they were online, what they did of it, how long work waited,
// and what was their fault.
func TestHowTheLabWasUsed(t *testing.T) {
	y := openYard(t, t.TempDir())
	run := y.submit(3, 1, api.RunRequest{})
	y.now = y.now.Add(4 * time.Second)
	y.join("quay")
	y.join("pier")
	pass := func(d time.Duration) {
		y.now = y.now.Add(d)
		y.agents["quay"].link = &link.Agent{} // as if there were one
		y.offered()
		y.agents["quay"].link = nil
	}
	pass(0)
	for range 3 {
		pass(30 * time.Second)
	}
	pass(30 * time.Second)
	pass(time.Hour) // the machine slept: nobody knows whether the agent was there
	pass(time.Minute)

	began := store.Millis(y.now)
	add := func(test, pane int, agent, verdict string, at, took int64) {
		require.NoError(t, y.store.Write(store.AddAttempt(store.Attempt{ID: store.NewID(), Run: run.Number, Pane: pane, Test: test, Number: 1,
			Agent: agent, Verdict: verdict, StartedAt: at, TookMS: took, Detail: store.Detail{Body: []byte("x")}}, nil)...))
	}
	add(0, 0, "quay", "passed", began, 60_000)
	add(1, 0, "quay", "lab-fault", began, 12_000)
	add(0, 1, "pier", "passed", began+86_400_000, 5_000)
	require.NoError(t, y.store.Sync())

	got, err := y.LabTrends(t.Context(), api.LabTrendFilter{}, y.now.Add(24*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []api.LabDay{
		{Day: "2026-03-02", LabWork: api.LabWork{Attempts: 2, Faults: 1, BusyMS: 72_000, OfferedMS: 2 * 180_000},
			Waits: 1, WaitMS: 4000, LongMS: 4000},
		{Day: "2026-03-03", LabWork: api.LabWork{Attempts: 1, BusyMS: 5_000}},
	}, got.Days)
	require.Len(t, got.Agents, 2)
	assert.Equal(t, []any{"quay", 0.5, "pier", 0.0}, []any{got.Agents[0].Agent, got.Agents[0].Rate, got.Agents[1].Agent, got.Agents[1].Rate})

	of, err := y.LabTrends(t.Context(), api.LabTrendFilter{Agent: "pier"}, y.now.Add(24*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []api.LabDay{{Day: "2026-03-03", LabWork: api.LabWork{Attempts: 1, BusyMS: 5_000}}}, of.Days)
	assert.Equal(t, got.Agents, of.Agents, "agents stay to choose from")
	for _, f := range []api.LabTrendFilter{{Among: []string{"elsewhere"}}, {Project: "elsewhere"}, {Days: 1}} {
		none, err := y.LabTrends(t.Context(), f, y.now.AddDate(0, 1, 0))
		require.NoError(t, err)
		assert.Equal(t, []int{0, 0}, []int{len(none.Days), len(none.Agents)}, "of another project nothing is told, nor of other days")
	}
}
