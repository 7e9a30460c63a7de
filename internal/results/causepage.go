package results

import (
	"context"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
)

// Bounds of a cause's page: cells, and pictures of them.
const (
	maxCauseCells = 500
	maxCauseShots = 3
)

// Cause is one cause of a run, with where it is and what was kept of it.
func (r *Results) Cause(ctx context.Context, number int, id string) (api.CausePage, error) {
	v, revised, err := r.whole(ctx, number)
	if err != nil {
		return api.CausePage{}, err
	}
	all, err := r.causesOf(ctx, v, revised)
	if err != nil {
		return api.CausePage{}, err
	}
	i := slices.IndexFunc(all.Causes, func(c api.Cause) bool { return c.ID == id })
	if i < 0 {
		return api.CausePage{}, NoCause(number, id)
	}
	out := api.CausePage{Run: v.RunSummary, Cause: all.Causes[i], Cells: []api.CauseCell{}, Pictures: []api.CauseShot{}}
	for n, at := range out.Cause.Cells[:min(maxCauseCells, len(out.Cause.Cells))] {
		out.Cells = append(out.Cells, api.CauseCell{Pane: at.Pane, Test: at.Test, Label: v.Panes[at.Pane].Label, Name: v.Tests[at.Test].Name,
			Cell: v.Cells[at.Pane][at.Test]})
		if n < 3*maxCauseShots && len(out.Pictures) < maxCauseShots {
			if err := r.showCause(ctx, &out, v, at); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

// showCause adds the step and the picture of a failing cell.
func (r *Results) showCause(ctx context.Context, out *api.CausePage, v *api.Run, at triage.At) error {
	if out.Step == "" {
		one, err := r.TestOfRun(ctx, v.Number, at.Test)
		if err != nil {
			return err
		}
		out.Step, out.File, out.Line = failedStep(one.Results[at.Pane].Attempts)
	}
	file, ok, err := r.pictureOf(ctx, v.Number, at.Pane, at.Test)
	if ok {
		out.Pictures = append(out.Pictures, api.CauseShot{Attempt: file.Attempt, Name: file.Name, Label: v.Panes[at.Pane].Label,
			Test: v.Tests[at.Test].Name})
	}
	return err
}

// failedStep is the step at which a test failed the last time that it did.
func failedStep(attempts []api.Attempt) (title, file string, line int) {
	for _, a := range slices.Backward(attempts) {
		if a.Verdict == verdict.Passed {
			continue
		}
		for _, s := range a.Detail.Steps {
			if s.State == attempt.Failed {
				return strings.TrimSpace(s.Title), s.At.File, s.At.Line
			}
		}
	}
	return "", "", 0
}

// NoCause says that a run has none of an id.
func NoCause(run int, id string) error {
	return api.Errorf(api.NotFound, "run %d has no cause %.80q: pane causes %[1]d lists them, GET /runs/%[1]d/causes has their ids", run, id)
}
