package results

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
)

// maxWaits bounds the waits of each kind that are looked at.
const maxWaits = 200_000

// LabTrends says how the lab was used: its slots, how long work waited for them, and what
// was the lab's fault, by day and by agent.
func (r *Results) LabTrends(ctx context.Context, f api.LabTrendFilter, now time.Time) (api.LabTrends, error) {
	if f.Days <= 0 {
		f.Days = 30
	}
	f.Days = min(f.Days, 400)
	to := now.UnixMilli() / dayMS
	from := to - int64(f.Days) + 1
	out := api.LabTrends{From: dayName(from), To: dayName(to), Days: []api.LabDay{}, Agents: []api.LabAgent{}}
	wanted := func(project string) bool {
		return (f.Project == "" || project == f.Project) && (f.Among == nil || slices.Contains(f.Among, project))
	}
	rows, err := r.store.DaysOfAgents(ctx, from)
	if err != nil {
		return out, err
	}
	works := map[string]bool{} // for a project that is wanted
	for _, d := range rows {
		works[d.Agent] = works[d.Agent] || d.Project != "" && wanted(d.Project)
	}
	days, agents := map[int64]*api.LabDay{}, map[string]*api.LabAgent{}
	day := func(n int64) *api.LabDay {
		if days[n] == nil {
			days[n] = &api.LabDay{Day: dayName(n)}
		}
		return days[n]
	}
	for _, d := range rows {
		if d.Project == "" && (f.Among != nil || f.Project != "") && !works[d.Agent] || d.Project != "" && !wanted(d.Project) {
			continue
		}
		if agents[d.Agent] == nil {
			agents[d.Agent] = &api.LabAgent{Agent: d.Agent}
		}
		w := api.LabWork{Attempts: d.Attempts, Faults: d.Faults, BusyMS: d.BusyMS, OfferedMS: d.OfferedMS}
		plus(&agents[d.Agent].LabWork, w)
		if f.Agent == "" || f.Agent == d.Agent {
			plus(&day(d.Day).LabWork, w)
		}
	}
	if f.Agent == "" {
		waits, err := r.store.Waits(ctx, from*dayMS, maxWaits)
		if err != nil {
			return out, err
		}
		byDay := map[int64][]int64{}
		for _, w := range waits {
			if wanted(w.Project) {
				byDay[w.At/dayMS] = append(byDay[w.At/dayMS], w.MS)
			}
		}
		for n, ms := range byDay {
			slices.Sort(ms)
			d := day(n)
			d.Waits, d.WaitMS, d.LongMS = len(ms), ms[len(ms)/2], ms[(9*len(ms)-1)/10]
		}
	}
	for _, n := range slices.Sorted(maps.Keys(days)) {
		out.Days = append(out.Days, *days[n])
	}
	for _, a := range agents {
		if a.Attempts > 0 {
			a.Rate = float64(a.Faults) / float64(a.Attempts)
		}
		a.Low, a.High = triage.Wilson(a.Faults, a.Attempts)
		out.Agents = append(out.Agents, *a)
	}
	slices.SortFunc(out.Agents, func(a, b api.LabAgent) int {
		return cmp.Or(cmp.Compare(b.Low, a.Low), cmp.Compare(b.BusyMS, a.BusyMS), cmp.Compare(a.Agent, b.Agent))
	})
	return out, nil
}

func plus(to *api.LabWork, w api.LabWork) {
	to.Attempts, to.Faults, to.BusyMS, to.OfferedMS = to.Attempts+w.Attempts, to.Faults+w.Faults, to.BusyMS+w.BusyMS, to.OfferedMS+w.OfferedMS
}
