package work

import (
	"os"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The load of a piece of work is the average number of sessions over its time.
func TestMeterKnowsTheAverageLoad(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		m := NewMeter(dir)
		first := m.Begin("tides")
		time.Sleep(5 * time.Second)
		second := m.Begin("fees")
		time.Sleep(5 * time.Second)
		first(true)
		left := m.Begin("left out")
		time.Sleep(5 * time.Second)
		second(true)
		left(false)
		require.Len(t, m.timings, 2)
		assert.Equal(t, "tides", m.timings[0].Work)
		assert.InDelta(t, 1.5, m.timings[0].Load, 1e-6)
		assert.InDelta(t, 10, m.timings[0].Seconds, 1e-6)
		assert.InDelta(t, 2, m.timings[1].Load, 1e-6)
		assert.Zero(t, m.Advice(2).Slots)
		require.NoError(t, m.Save())
		assert.Equal(t, m.timings, NewMeter(dir).timings, "timings outlive the agent")
		for range 2 * maxTimings {
			end := m.Begin("tides")
			time.Sleep(time.Second)
			end(true)
		}
		assert.Len(t, m.timings, maxTimings)
	})
}

func TestMeterForgetsWhatItCannotRead(t *testing.T) {
	dir := t.TempDir()
	m := NewMeter(dir)
	require.NoError(t, os.WriteFile(m.file, []byte("{"), 0o600))
	assert.Empty(t, NewMeter(dir).timings)
}
