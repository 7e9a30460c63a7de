package service

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func cellEvent(run string) Event {
	return Event{Type: "cell", Run: &RunSummary{ID: run}, Pane: &Pane{}, Cell: &Cell{}}
}

func TestWatchersSeeTheirRun(t *testing.T) {
	h := newHub()
	one, all := h.watch("r1"), h.watch("")
	h.publish(cellEvent("r1"))
	h.publish(cellEvent("r2"))
	h.publish(Event{Type: "agents"})
	assert.Equal(t, "cell", (<-one.Events).Type)
	assert.Equal(t, "agents", (<-one.Events).Type)
	assert.Empty(t, one.Events)
	first := <-all.Events
	assert.Equal(t, "run", first.Type, "who watches everything is spared the cells")
	assert.Nil(t, first.Cell)
	assert.Len(t, all.Events, 2)
}

func TestASlowWatcherIsCutOffAndNobodyWaits(t *testing.T) {
	h := newHub()
	slow, quick := h.watch("r1"), h.watch("r1")
	seen := 0
	for range watchBuffer + 1 {
		h.publish(cellEvent("r1"))
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
	before := h.watch("")
	h.close()
	_, open := <-before.Events
	assert.False(t, open)
	_, open = <-h.watch("").Events
	assert.False(t, open)
	h.publish(Event{Type: "agents"})
}

func TestRoles(t *testing.T) {
	for _, tc := range []struct {
		have, need Role
		want       bool
	}{
		{Viewer, Viewer, true}, {Viewer, Runner, false}, {Runner, Viewer, true}, {Runner, Admin, false}, {Admin, Runner, true},
		{AgentRole, AgentRole, true}, {AgentRole, Viewer, false}, {Runner, AgentRole, false}, {Admin, AgentRole, true}, {"", Viewer, false},
	} {
		assert.Equal(t, tc.want, tc.have.Allows(tc.need), "%s %s", tc.have, tc.need)
	}
}
