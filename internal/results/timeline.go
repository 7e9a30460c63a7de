package results

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/walls"
)

// met looks at the runs up to one, however long ago that was.
func (r *Results) met(ctx context.Context, run api.Run) (api.Met, error) {
	pairs, err := r.store.Met(ctx, run.Project, run.Suite, run.Matrix, run.Number, walls.MetRuns)
	if err != nil {
		return api.Met{}, err
	}
	m, on := walls.MetOn(walls.Names(run.Tests, func(t api.Test) string { return t.Name }),
		walls.Names(run.Panes, func(p api.Pane) string { return p.Key }))
	for _, p := range pairs {
		if on(p.Test, p.Key) {
			m.Met++
		}
	}
	return m, nil
}

// Timeline draws a run's attempts onto the slots of its agents. Leases of one
// agent that overlap get slots of their own.
func (r *Results) Timeline(ctx context.Context, number int) (api.Timeline, error) {
	run, err := r.Run(ctx, number)
	if err != nil {
		return api.Timeline{}, err
	}
	spans, err := r.store.Spans(ctx, run.Number)
	if err != nil {
		return api.Timeline{}, err
	}
	t := api.Timeline{RunSummary: run.RunSummary, Unfinished: run.Counts[verdict.Pending]}
	if len(spans) > 0 {
		t.StartedMS = spans[0].StartedAt
	}
	slotOf, until := map[int64]int{}, map[int]int64{}
	q := plan.Question{}
	for _, x := range spans {
		i, known := slotOf[x.Fence]
		if !known {
			i = -1
			for k, o := range t.Slots {
				if o.Agent == x.Agent && until[k] <= x.StartedAt {
					i = k
					break
				}
			}
			if i < 0 {
				n := 1
				for _, o := range t.Slots {
					if o.Agent == x.Agent {
						n++
					}
				}
				i = len(t.Slots)
				t.Slots = append(t.Slots, api.TimelineSlot{Agent: x.Agent, Slot: n})
			}
			slotOf[x.Fence] = i
		}
		end := x.StartedAt + x.TookMS
		until[i] = max(until[i], end)
		t.Slots[i].Bars = append(t.Slots[i].Bars, api.Bar{Pane: x.Pane, Label: run.Panes[x.Pane].Label, Test: x.Test,
			Name: run.Tests[x.Test].Name, Attempt: x.Number, Lease: x.Fence,
			Verdict: verdict.Verdict(x.Verdict), StartMS: x.StartedAt - t.StartedMS, TookMS: x.TookMS})
		t.MakespanS = max(t.MakespanS, float64(end-t.StartedMS)/1000)
		q.Tests = append(q.Tests, plan.Test{ID: fmt.Sprint(len(q.Tests)), Seconds: float64(x.TookMS) / 1000, Needs: run.Panes[x.Pane].Needs})
	}
	t.BoundS = plan.Bound(q.Tests, r.hosts(t.Slots), run.Request.Limit)
	slices.SortStableFunc(t.Slots, func(a, b api.TimelineSlot) int { return strings.Compare(a.Agent, b.Agent) })
	t.Met, err = r.met(ctx, run)
	return t, err
}

// hosts are the agents of slots, with as many slots as were used.
func (r *Results) hosts(slots []api.TimelineSlot) (out []dispatch.Agent) {
	used := map[string]int{}
	for _, x := range slots {
		used[x.Agent] = max(used[x.Agent], x.Slot)
	}
	for _, m := range r.lab.Members() {
		if n := used[m.Name]; n > 0 {
			out = append(out, dispatch.Agent{Name: m.Name, Facts: m.Facts, Slots: n})
		}
	}
	return out
}
