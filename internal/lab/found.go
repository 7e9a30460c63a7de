package lab

import (
	"maps"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
)

// Bounds of what an agent finds at once.
const (
	maxFound     = 20_000
	maxFoundName = 5 << 10 // bytes
)

// Found adds tests that an agent came upon to its lease, and to the run those that nobody
// had come upon before.
func (lab *Lab) Found(agent string, f link.Found) (link.FoundAnswer, error) {
	if len(f.Tests) > maxFound {
		return link.FoundAnswer{}, api.Errorf(api.Invalid, "%d tests at once; at most %d are taken", len(f.Tests), maxFound)
	}
	for _, t := range f.Tests {
		if t.Name == "" || len(t.Name) > maxFoundName || len(t.File) > maxFoundName {
			return link.FoundAnswer{}, api.Errorf(api.Invalid, "a test has a name of 1 to %d bytes, found %.40q", maxFoundName, t.Name)
		}
	}
	lab.mu.Lock()
	answer, e, err := lab.foundLocked(agent, f)
	lab.mu.Unlock()
	if err != nil {
		return answer, err
	}
	return answer, lab.carryOut(e)
}

func (lab *Lab) foundLocked(agent string, f link.Found) (link.FoundAnswer, *effects, error) {
	answer := link.FoundAnswer{Tests: []link.SliceTest{}}
	l, ok := lab.leases[f.Fence]
	r := lab.live[l.Run]
	if !ok || l.Agent != agent || r == nil {
		return answer, nil, api.Errorf(api.Conflict, "lease %d has ended", f.Fence)
	}
	known := make(map[string]int, len(r.view.Tests))
	for i, t := range r.view.Tests {
		known[t.Name] = i
	}
	all := len(known)
	for _, t := range f.Tests {
		if _, there := known[t.Name]; !there {
			all++
		}
	}
	if n := all * len(r.view.Panes); n > api.MaxCells {
		return answer, nil, api.Errorf(api.Invalid, "run %d would have %d cells; a run holds at most %d", r.view.Number, n, api.MaxCells)
	}
	mine := make(map[int]int, len(l.Tests)) // places in the lease
	for i, t := range l.Tests {
		mine[t] = i
	}
	var rows []store.Test
	tests := map[int]dispatch.Test{}
	var told []link.SliceTest // of the lease already: the agent may not have heard the answer that said so
	for _, t := range f.Tests {
		at, there := known[t.Name]
		if !there {
			at = len(r.view.Tests)
			known[t.Name] = at
			rows = append(rows, r.admit(suite.Case{Name: t.Name, File: t.File}))
			for i := range r.terms.Seconds {
				r.terms.Seconds[i] = append(r.terms.Seconds[i], 0)
			}
		}
		if i, is := mine[at]; is {
			told = append(told, link.SliceTest{Index: at, Name: t.Name, File: r.view.Tests[at].File, Attempt: l.Attempt[i], ID: l.ids[i]})
			continue
		}
		switch cell := &r.view.Cells[l.Pane][at]; cell.State {
		case api.Undealt:
			r.deal(l.Pane, at)
			tests[at] = testOf(r.view.Project, r.view.Tests[at], 0)
		case api.Queued:
			tests[at] = dispatch.Test{}
		}
	}
	attempts := lab.machine.Adopt(f.Fence, tests)
	l.Tests, l.Attempt, l.ids = slices.Clone(l.Tests), slices.Clone(l.Attempt), slices.Clone(l.ids)
	for _, at := range slices.Sorted(maps.Keys(attempts)) {
		id := attempt.NewID(store.NewID())
		l.Tests, l.Attempt, l.ids = append(l.Tests, at), append(l.Attempt, attempts[at]), append(l.ids, id)
		r.started(l.Pane, at, agent)
		answer.Tests = append(answer.Tests, link.SliceTest{Index: at, Name: r.view.Tests[at].Name, File: r.view.Tests[at].File,
			Attempt: attempts[at], ID: id})
	}
	answer.Tests = append(answer.Tests, told...)
	lab.leases[f.Fence] = l
	batch := append(store.AddTests(r.row(), rows), r.dealings()...)
	batch = append(batch, store.ChangeLease(f.Fence, store.JSON(l.tests())))
	e := lab.applyLocked(nil, append(batch, store.Recount(r.view.Number, store.JSON(copyCounts(r.view.Counts))))...)
	e.walls = append(e.walls, api.Event{Type: "wall", Run: r.head(), Whole: true})
	return answer, e, nil
}
