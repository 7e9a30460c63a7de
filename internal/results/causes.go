package results

import (
	"context"
	"errors"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// maxPast bounds how many cells of earlier runs are looked at beside a run's own, and
// pastRuns how many runs.
const (
	maxPast   = 30_000
	pastRuns  = 20
	maxOrders = 6_000 // cells of all these runs, up to which the order of tests is looked at
	enough    = 1_000 // failing cells of a run that need no earlier ones beside them
)

// Causes says what the failures of a run come from, and since when.
func (r *Results) Causes(ctx context.Context, number int) (api.Causes, error) {
	v, revised, err := r.whole(ctx, number)
	if err != nil {
		return api.Causes{}, err
	}
	return r.causesOf(ctx, v, revised)
}

// causesOf says it of a run that is at hand.
func (r *Results) causesOf(ctx context.Context, v *api.Run, revised int) (api.Causes, error) {
	out := api.Causes{Run: v.Number, Ended: v.State == api.Ended, Causes: []api.Cause{}}
	var err error
	if out.Before, out.Green, err = r.store.RunsBefore(ctx, v.Project, v.Suite, v.Number); err != nil {
		return out, err
	}
	found, err := r.found(ctx, v, revised, out.Before)
	if err != nil {
		return out, err
	}
	signatures := make([]string, len(found))
	for i, c := range found {
		signatures[i] = c.Signature
		out.Failed += c.Failed
	}
	seen, err := r.store.CausesSeen(ctx, v.Project, v.Suite, v.Number, signatures)
	if err != nil {
		return out, err
	}
	defects, err := r.store.DefectsOf(ctx, v.Project, v.Suite, signatures)
	if err != nil {
		return out, err
	}
	for _, c := range found {
		x := newsOf(c, seen, out, v)
		if d, ok := defects[c.Signature]; ok {
			filed := walls.DefectOf(d)
			x.Defect = &filed
		}
		out.Causes = append(out.Causes, x)
	}
	return out, nil
}

// newsOf adds to a cause since when it is there. That a run has it is put on record a
// moment after the run's end; its own causes count at once.
func newsOf(c triage.Cause, seen map[string]store.CauseSeen, of api.Causes, v *api.Run) api.Cause {
	own := &api.CauseSeen{Run: v.Number, At: v.CreatedAt}
	x := api.Cause{Cause: c, News: api.NewCause, Runs: 1, SinceGreen: of.Green > 0,
		First: &api.CauseSeen{Run: v.Number, At: v.CreatedAt, Bundle: v.Request.Bundle}, Last: own}
	s, ok := seen[c.Signature]
	if !ok {
		return x
	}
	x.Runs, x.Last = s.Runs, &api.CauseSeen{Run: s.Last, At: api.At(s.LastAt)}
	if s.Last < v.Number {
		x.Runs, x.Last = s.Runs+1, own
	}
	if s.First >= v.Number {
		return x
	}
	x.First = &api.CauseSeen{Run: s.First, At: api.At(s.FirstAt), Bundle: s.Bundle}
	x.SinceGreen = of.Green > 0 && s.First > of.Green
	switch {
	case s.Before == 0:
	case s.Before == of.Before:
		x.News = api.KnownCause
	default:
		x.News = api.BackAgain
	}
	return x
}

// found are the causes of a run. Those of an ended one are kept: they are found once.
func (r *Results) found(ctx context.Context, v *api.Run, revised, before int) (found []triage.Cause, err error) {
	if v.State == api.Ended {
		packed, err := r.store.Told(ctx, v.Number)
		if err == nil {
			return found, unpack(packed, &found)
		}
		if !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
	}
	run := walls.Triaged(v)
	var failing []int
	for j := range v.Tests {
		if slices.ContainsFunc(v.Cells, func(row []api.Cell) bool { return failed(row[j].Verdict) }) {
			failing = append(failing, j)
		}
	}
	if bad := v.Counts[verdict.Failed] + v.Counts[verdict.Flaky] + v.Counts[verdict.LabFault]; bad <= enough {
		if err := r.before(ctx, v, before, failing, &run); err != nil {
			return nil, err
		}
	}
	found = triage.Causes(run)
	for i := range min(explained, len(found)) {
		if err := r.explain(ctx, v, &found[i]); err != nil {
			return nil, err
		}
	}
	if v.State == api.Ended {
		packed, err := pack(found)
		if err != nil {
			return nil, err
		}
		r.store.Enqueue(store.KeepTold(v.Number, revised, packed)) // where it cannot be kept it is found again
	}
	return found, nil
}

// before adds what earlier runs of the suite say of tests that fail, and in which order
// tests ran, as far as that is not too much to read.
func (r *Results) before(ctx context.Context, v *api.Run, last int, failing []int, run *triage.Run) error {
	n := min(pastRuns, maxPast/max(1, len(failing)*len(v.Panes)))
	if n == 0 || len(failing) == 0 {
		return nil
	}
	from := v.Number
	if last > 0 {
		var err error
		if from, err = r.store.NthBefore(ctx, v.Project, v.Suite, v.Number, n); err != nil {
			return err
		}
	}
	past, err := r.store.CellsBefore(ctx, v.Number, from, failing)
	if err != nil {
		return err
	}
	after := map[[3]int][]int{} // by run, pane and test
	if len(v.Tests)*len(v.Panes)*(n+1) <= maxOrders {
		orders, err := r.store.Orders(ctx, v.Number, from)
		if err != nil {
			return err
		}
		after = afterOf(orders, failing)
	}
	run.After = map[triage.At][]int{}
	for key, tests := range after {
		if key[0] == v.Number {
			run.After[triage.At{Pane: key[1], Test: key[2]}] = tests
		}
	}
	for _, c := range past {
		run.Past = append(run.Past, triage.Before{Pane: c.Pane, Test: c.Test, Verdict: was(c.Verdict), Message: c.Message,
			After: after[[3]int{c.Run, c.Pane, c.Test}]})
	}
	return nil
}

// afterOf says for each of some tests, in a run and a pane, which ran before it in its
// lease.
func afterOf(orders []store.Order, of []int) map[[3]int][]int {
	out := map[[3]int][]int{}
	var before []int
	for i, o := range orders {
		if i == 0 || o.Run != orders[i-1].Run || o.Fence != orders[i-1].Fence {
			before = []int{}
		}
		if _, asked := slices.BinarySearch(of, o.Test); asked {
			out[[3]int{o.Run, o.Pane, o.Test}] = slices.Clone(before)
		}
		before = append(before, o.Test)
	}
	return out
}

func failed(v verdict.Verdict) bool {
	return v == verdict.Failed || v == verdict.Flaky || v == verdict.LabFault
}
