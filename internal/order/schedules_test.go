package order

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// evening makes a schedule whose occurrence is due.
func evening(d *counter) *planned {
	d.t.Helper()
	ctx, who := d.t.Context(), api.Who{Name: "ada", Rights: api.InLab(api.Runner)}
	_, err := d.SavePreset(ctx, who, api.PresetRequest{Name: "nightly", Request: api.RunRequest{Bundle: d.bundle(1), Matrix: "wall"}})
	require.NoError(d.t, err)
	_, err = d.AddSchedule(ctx, who, api.ScheduleRequest{Name: "evenings", Preset: "nightly",
		Rule: "FREQ=DAILY;BYHOUR=18;BYMINUTE=0;BYSECOND=0"})
	require.NoError(d.t, err)
	d.now = time.Date(2026, 3, 2, 18, 0, 1, 0, time.UTC)
	return due(d)
}

func due(d *counter) *planned {
	d.plans.mu.Lock()
	defer d.plans.mu.Unlock()
	require.NoError(d.t, d.loadLocked(d.t.Context()))
	require.Len(d.t, d.plans.all, 1)
	return d.plans.all[0]
}

// The run of an occurrence and the note that it occurred are one write: when the
// note cannot be written there is no run either, so no kill can come between.
func TestAnOccurrenceAndItsRunAreOneWrite(t *testing.T) {
	d := openCounter(t, t.TempDir())
	p := evening(d)
	when := p.due
	require.NoError(t, d.store.Write(store.Do(
		`CREATE TRIGGER killed BEFORE UPDATE ON schedules BEGIN SELECT RAISE(ABORT, 'killed here'); END`)))
	require.ErrorContains(t, d.occur(t.Context(), p, d.now), "the records did not allow this")
	d.reopen()
	runs, err := d.Runs(t.Context(), api.RunFilter{})
	require.NoError(t, err)
	assert.Empty(t, runs)
	assert.Equal(t, when, due(d).due, "it is due as before")

	require.NoError(t, d.store.Write(store.Do(`DROP TRIGGER killed`)))
	require.NoError(t, d.occur(t.Context(), due(d), d.now))
	d.reopen()
	assert.True(t, due(d).due.After(when), "and now tomorrow's is")
	assert.Equal(t, 1, due(d).row.LastRun)
	assert.Contains(t, due(d).row.LastNote, "started for 2026-03-02 18:00")
}

func TestASchedulesBadRecordLeavesTheOthersAlone(t *testing.T) {
	d := openCounter(t, t.TempDir())
	p := evening(d)
	odd := p.row
	odd.ID, odd.Name, odd.Rule = store.NewID(), "odd", "FREQ=NEVER"
	require.NoError(t, d.changeSchedules(store.AddSchedule(odd)))
	all, err := d.Schedules(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Len(t, all[0].Next, 5)
	assert.True(t, all[1].Paused)
	assert.Contains(t, all[1].LastNote, "set aside")
	feed, err := d.Calendar(t.Context(), scheduler)
	require.NoError(t, err)
	assert.Contains(t, feed, "Run nightly")
}
