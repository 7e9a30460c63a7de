package lab

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
)

func wallEvent(run string) api.Event {
	return api.Event{Type: "wall", Run: &api.RunSummary{ID: run}, Panes: []api.Pane{{}}, Cells: []api.CellAt{{}}}
}

// What comes by an event is as whole as what is fetched: no client meets null where
// it expects a list.
func TestEventsHaveNoNullForAList(t *testing.T) {
	h := newHub()
	w := h.watch("r1", nil)
	h.publish(wallEvent("r1"))
	raw, err := json.Marshal(<-w.Events)
	require.NoError(t, err)
	var e struct {
		Panes []struct {
			Agents json.RawMessage
			Info   struct {
				Emulated struct{ Missing json.RawMessage }
			}
		}
	}
	require.NoError(t, json.Unmarshal(raw, &e))
	assert.Equal(t, []string{"[]", "[]"}, []string{string(e.Panes[0].Agents), string(e.Panes[0].Info.Emulated.Missing)})
}

func TestWatchersSeeTheirRun(t *testing.T) {
	h := newHub()
	one, all := h.watch("r1", nil), h.watch("", nil)
	h.publish(wallEvent("r1"))
	h.publish(wallEvent("r2"))
	h.publish(api.Event{Type: "agents"})
	assert.Equal(t, "wall", (<-one.Events).Type)
	assert.Equal(t, "agents", (<-one.Events).Type)
	assert.Empty(t, one.Events)
	first := <-all.Events
	assert.Equal(t, "run", first.Type, "who watches everything is spared the walls")
	assert.Nil(t, first.Cells)
	assert.Len(t, all.Events, 2)

	some := h.watch("", nil, 7)
	for n, id := range map[int]string{7: "r7", 8: "r8"} {
		e := wallEvent(id)
		e.Run.Number = n
		h.publish(e)
	}
	types := map[int]string{}
	for range 2 {
		e := <-some.Events
		types[e.Run.Number] = e.Type
	}
	assert.Equal(t, map[int]string{7: "wall", 8: "run"}, types, "walls come of the runs that are shown")
}

func TestASlowWatcherIsCutOffAndNobodyWaits(t *testing.T) {
	h := newHub()
	slow, quick := h.watch("r1", nil), h.watch("r1", nil)
	seen := 0
	for range watchBuffer + 1 {
		h.publish(wallEvent("r1"))
		<-quick.Events
		seen++
	}
	assert.Equal(t, watchBuffer+1, seen)
	n := 0
	for range slow.Events {
		n++
	}
	assert.Equal(t, watchBuffer, n, "it got what fitted, and then the end")
	slow.Close() // harmless
	quick.Close()
	_, open := <-quick.Events
	assert.False(t, open)
}

func TestNobodyWatchesAClosedHub(t *testing.T) {
	h := newHub()
	before := h.watch("", nil)
	h.close()
	_, open := <-before.Events
	assert.False(t, open)
	_, open = <-h.watch("", nil).Events
	assert.False(t, open)
	h.publish(api.Event{Type: "agents"})
}

// Cancelling a wide run is one event to its watchers, not one for each cell with
// all its panes.
func TestAWideRunIsCancelledInOneEvent(t *testing.T) {
	y := openYard(t, t.TempDir())
	run := y.submit(60, 100, api.RunRequest{})
	require.Equal(t, 12_000, run.Counts[verdict.Pending])
	all, one := y.Watch(""), y.Watch(run.ID)
	_, err := y.Cancel(t.Context(), api.Who{Name: "ci"}, run.Number)
	require.NoError(t, err)
	require.NoError(t, y.close())
	for name, w := range map[string]*Watch{"every run": all, "the run": one} {
		events, bytes, over := 0, 0, false
		for e := range w.Events {
			raw, err := json.Marshal(e)
			require.NoError(t, err)
			events, bytes, over = events+1, bytes+len(raw), over || (e.Run != nil && e.Run.State == api.Ended)
		}
		assert.True(t, over, "%s: watchers were told of the end", name)
		assert.Less(t, events, 5, name)
		assert.Less(t, bytes, 20_000, name)
	}
}

func TestAFewCellsComeWithTheirEvent(t *testing.T) {
	r := &liveRun{view: api.Run{RunSummary: api.RunSummary{ID: "r"}, Panes: []api.Pane{{Index: 0}, {Index: 1}},
		Cells: [][]api.Cell{make([]api.Cell, 400), make([]api.Cell, 400)}}}
	e := &effects{}
	e.cell(r, 1, 3)
	r.view.Cells[1][3].State = api.Running
	e.cell(r, 1, 3)
	require.Len(t, e.walls, 1)
	assert.Equal(t, []api.CellAt{{Pane: 1, Test: 3, Cell: api.Cell{State: api.Running}}}, e.walls[0].Cells)
	assert.Len(t, e.walls[0].Panes, 1)
	for i := range 400 {
		e.cell(r, 0, i)
	}
	assert.True(t, e.walls[0].Whole)
	assert.Empty(t, e.walls[0].Cells)
}

// A clock that jumps, forwards or back, costs at most leases: runs end, in their order,
// and so does everything after the clock is right again.
func TestAClockThatJumps(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	for i, jump := range []time.Duration{-24 * time.Hour, 48 * time.Hour, -365 * 24 * time.Hour, 400 * 24 * time.Hour} {
		run := y.submit(1, 1, api.RunRequest{})
		y.now = y.now.Add(jump)
		y.mu.Lock()
		e := y.applyLocked(y.machine.Tick(y.now))
		y.mu.Unlock()
		require.NoError(t, y.carryOut(e))
		if i == 2 {
			y.reopen()
		}
		y.join("quay")
		for range 4 {
			for _, g := range y.granted("quay") {
				for k, test := range g.Tests {
					_, err := y.Result("quay", link.Result{ID: g.ids[k], Fence: g.Fence, Test: test, Verdict: verdict.Passed,
						StartedAt: y.now.UnixMilli()})
					require.NoError(t, err)
				}
			}
		}
		got, err := y.Run(t.Context(), run.Number)
		require.NoError(t, err)
		assert.Equal(t, api.Ended, got.State, "after a jump by %s", jump)
	}
	all, err := y.Runs(t.Context(), api.RunFilter{})
	require.NoError(t, err)
	assert.Len(t, all, 4)
	for i, r := range all {
		assert.Equal(t, 4-i, r.Number, "numbers count, whatever the clock says")
	}
}
