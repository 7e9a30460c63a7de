package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// evening makes a schedule whose occurrence is due.
func evening(l *lab) *planned {
	l.t.Helper()
	ctx, who := l.t.Context(), api.Who{Name: "ada", Role: api.Runner}
	_, err := l.SavePreset(ctx, who, api.PresetRequest{Name: "nightly", Request: api.RunRequest{Bundle: l.bundle(1), Matrix: "wall"}})
	require.NoError(l.t, err)
	_, err = l.AddSchedule(ctx, who, api.ScheduleRequest{Name: "evenings", Preset: "nightly", Rule: "FREQ=DAILY;BYHOUR=18;BYMINUTE=0;BYSECOND=0"})
	require.NoError(l.t, err)
	l.now = time.Date(2026, 3, 2, 18, 0, 1, 0, time.UTC)
	return due(l)
}

func due(l *lab) *planned {
	l.plans.mu.Lock()
	defer l.plans.mu.Unlock()
	require.NoError(l.t, l.loadLocked(l.t.Context()))
	require.Len(l.t, l.plans.all, 1)
	return l.plans.all[0]
}

// The run of an occurrence and the note that it occurred are one write: when the
// note cannot be written there is no run either, so no kill can come between.
func TestAnOccurrenceAndItsRunAreOneWrite(t *testing.T) {
	l := openLab(t, t.TempDir())
	p := evening(l)
	when := p.due
	require.NoError(t, l.store.Write(store.Do(`CREATE TRIGGER killed BEFORE UPDATE ON schedules BEGIN SELECT RAISE(ABORT, 'killed here'); END`)))
	require.Error(t, l.occur(t.Context(), p, l.now))
	require.ErrorContains(t, <-l.Fatal(), "killed here")
	require.NoError(t, l.Close())
	l.reopen()
	runs, err := l.Runs(t.Context(), api.RunFilter{})
	require.NoError(t, err)
	assert.Empty(t, runs)
	assert.Equal(t, when, due(l).due, "it is due as before")

	require.NoError(t, l.store.Write(store.Do(`DROP TRIGGER killed`)))
	require.NoError(t, l.occur(t.Context(), due(l), l.now))
	require.NoError(t, l.Close())
	l.reopen()
	assert.True(t, due(l).due.After(when), "and now tomorrow's is")
	assert.Equal(t, 1, due(l).row.LastRun)
	assert.Contains(t, due(l).row.LastNote, "started for 2026-03-02 18:00")
}

func TestASchedulesBadRecordLeavesTheOthersAlone(t *testing.T) {
	l := openLab(t, t.TempDir())
	p := evening(l)
	odd := p.row
	odd.ID, odd.Name, odd.Rule = store.NewID(), "odd", "FREQ=NEVER"
	require.NoError(t, l.changeSchedules(store.AddSchedule(odd)))
	all, err := l.Schedules(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Len(t, all[0].Next, 5)
	assert.True(t, all[1].Paused)
	assert.Contains(t, all[1].LastNote, "set aside")
	feed, err := l.Calendar(t.Context())
	require.NoError(t, err)
	assert.Contains(t, feed, "Run nightly")
}
