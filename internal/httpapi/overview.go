package httpapi

import (
	"context"
	"fmt"
	"slices"
	"time"

	"parallelpane/internal/api"
)

// Bounds of an overview.
const (
	fewUnsteady = 5
	fewNext     = 5
	suiteDays   = 14
	// of a suite, that are looked at for unsteady tests
	overviewRuns = 10
)

// overview puts together what is going on, of what somebody may look at.
func (a *server) overview(ctx context.Context, who api.Who) (api.Overview, error) {
	s, now := a.service, time.Now()
	out := api.Overview{At: api.At(now.UnixMilli()), Running: []api.RunSummary{}, Waiting: []api.WaitingRun{},
		Lab: api.OverviewLab{Away: []api.OverviewAway{}}, Next: []api.OverviewNext{}}
	for _, x := range seenAgents(who, s.Agents()) {
		if x.Away != "" {
			out.Lab.Away = append(out.Lab.Away, api.OverviewAway{Agent: x.Name, Because: x.Away})
		}
		if x.Online {
			out.Lab.Online, out.Lab.Slots, out.Lab.Used = out.Lab.Online+1, out.Lab.Slots+x.Slots, out.Lab.Used+x.Used
		}
	}
	out.Lab.Full = s.Storage().Full
	open, err := s.Runs(ctx, api.RunFilter{State: "open", Among: who.Projects(), Limit: 50})
	if err != nil {
		return out, err
	}
	for _, r := range open {
		if r.State == api.Running {
			out.Running = append(out.Running, r)
			continue
		}
		why := fmt.Sprintf("no slot that fits is free: %d of %d are taken", out.Lab.Used, out.Lab.Slots)
		if out.Lab.Online == 0 {
			why = "no agent is online"
		} else if out.Lab.Used == 0 {
			why = "no agent online takes its combinations: pane why says what they lack"
		}
		out.Waiting = append(out.Waiting, api.WaitingRun{RunSummary: r, Because: why})
	}
	day := now.Add(-24 * time.Hour).UnixMilli()
	if out.Suites, out.Lab.Faults, err = s.Recent(ctx, who.Projects(), now.AddDate(0, 0, -suiteDays).UnixMilli(), day); err != nil {
		return out, err
	}
	if out.Unsteady, err = s.Unsteady(ctx, api.UnsteadyFilter{Among: who.Projects(), Runs: overviewRuns}); err != nil {
		return out, err
	}
	out.Unsteady = out.Unsteady[:min(fewUnsteady, len(out.Unsteady))]
	schedules, err := s.Schedules(ctx)
	if err != nil {
		return out, err
	}
	for _, x := range seen(who, schedules, func(x api.Schedule) string { return x.Project }) {
		for _, at := range x.Next {
			out.Next = append(out.Next, api.OverviewNext{Schedule: x.Name, Preset: x.Preset, At: at})
		}
	}
	slices.SortFunc(out.Next, func(x, y api.OverviewNext) int { return x.At.Compare(y.At) })
	out.Next = out.Next[:min(fewNext, len(out.Next))]
	return out, nil
}
