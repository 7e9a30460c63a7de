package results

import (
	"context"
	"errors"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// The wall of a run that has ended changes no more, but for verdicts that are given
// to its sessions afterwards. It is stored as it is sent. Whenever it is not there it
// is drawn from the records again.

// Wall returns a run as JSON, compressed with gzip, if it has ended; otherwise the
// run itself.
func (r *Results) Wall(ctx context.Context, number int) (packed []byte, live *api.Run, err error) {
	row, err := r.Row(ctx, number)
	if err != nil {
		return nil, nil, err
	}
	if v, ok := r.lab.Live(row.ID); ok {
		return nil, &v, nil
	}
	packed, err = r.store.Wall(ctx, number)
	if !errors.Is(err, store.ErrNotFound) {
		return packed, nil, err
	}
	w, err := r.store.WholeRun(ctx, number)
	if err != nil {
		return nil, nil, err
	}
	v, err := walls.RunOf(row, w)
	if err != nil {
		return nil, nil, err
	}
	if packed, err = walls.Ready(v); err != nil {
		return nil, nil, err
	}
	kept, err := walls.Kept(v, row.Revised)
	if err == nil {
		r.store.Enqueue(kept...) // where it cannot be kept it is drawn again
	}
	return packed, nil, err
}

// RunID is the id of a run.
func (r *Results) RunID(ctx context.Context, number int) (string, error) {
	row, err := r.Row(ctx, number)
	return row.ID, err
}

// Run returns a whole run.
func (r *Results) Run(ctx context.Context, number int) (api.Run, error) {
	packed, live, err := r.Wall(ctx, number)
	if err != nil {
		return api.Run{}, err
	}
	if live != nil {
		return *live, nil
	}
	var v api.Run
	err = unpack(packed, &v)
	v.RunSummary.Panes = walls.Glances(&v) // a run says more of its panes under the same name
	return v, err
}
