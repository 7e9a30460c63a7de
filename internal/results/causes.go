package results

import (
	"context"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/walls"
)

// maxPast bounds how many cells of earlier runs are looked at beside a run's own, and
// pastRuns how many runs.
const (
	maxPast  = 30_000
	pastRuns = 20
)

// Causes says what the failures of a run come from, and since when.
func (r *Results) Causes(ctx context.Context, number int) (api.Causes, error) {
	v, err := r.Run(ctx, number)
	if err != nil {
		return api.Causes{}, err
	}
	return r.causesOf(ctx, &v)
}

func (r *Results) causesOf(ctx context.Context, v *api.Run) (api.Causes, error) {
	out := api.Causes{Run: v.Number, Ended: v.State == api.Ended, Causes: []api.Cause{}}
	run := walls.Triaged(v)
	var failing []int
	for j := range v.Tests {
		if slices.ContainsFunc(v.Cells, func(row []api.Cell) bool { return failed(row[j].Verdict) }) {
			failing = append(failing, j)
		}
	}
	var err error
	if out.Before, out.Green, err = r.store.RunsBefore(ctx, v.Project, v.Suite, v.Number); err != nil {
		return out, err
	}
	if n := min(pastRuns, maxPast/max(1, len(failing)*len(v.Panes))); n > 0 && out.Before > 0 && len(failing) > 0 {
		from, err := r.store.NthBefore(ctx, v.Project, v.Suite, v.Number, n)
		if err != nil {
			return out, err
		}
		past, err := r.store.CellsBefore(ctx, v.Number, from, failing)
		if err != nil {
			return out, err
		}
		for _, c := range past {
			run.Past = append(run.Past, triage.Before{Pane: c.Pane, Test: c.Test, Verdict: verdict.Verdict(c.Verdict), Message: c.Message})
		}
	}
	found := triage.Causes(run)
	signatures := make([]string, len(found))
	for i, c := range found {
		signatures[i] = c.Signature
		out.Failed += c.Failed
	}
	seen, err := r.store.CausesSeen(ctx, v.Project, v.Suite, v.Number, signatures)
	if err != nil {
		return out, err
	}
	for i := range min(explained, len(found)) {
		if err := r.explain(ctx, v, &found[i]); err != nil {
			return out, err
		}
	}
	for _, c := range found {
		x := api.Cause{Cause: c, News: api.NewCause, Runs: 1, SinceGreen: out.Green > 0}
		if s, ok := seen[c.Signature]; ok && (s.First < v.Number || s.First == v.Number) {
			x.Runs = s.Runs
			x.First = &api.CauseSeen{Run: s.First, At: api.At(s.FirstAt), Bundle: s.Bundle}
			x.Last = &api.CauseSeen{Run: s.Last, At: api.At(s.LastAt)}
			switch {
			case s.Before == 0:
			case s.Before == out.Before:
				x.News = api.KnownCause
			default:
				x.News = api.BackAgain
			}
			x.SinceGreen = out.Green > 0 && s.First > out.Green
		}
		out.Causes = append(out.Causes, x)
	}
	return out, nil
}

func failed(v verdict.Verdict) bool {
	return v == verdict.Failed || v == verdict.Flaky || v == verdict.LabFault
}
