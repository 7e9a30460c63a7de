package results

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"io"
	"slices"
	"sync"

	"parallelpane/internal/api"
)

// few are the runs that were read last, whole: causes and comparisons read the same ones
// again and again, and to read one of thousands of cells takes a tenth of a second.
type few struct {
	mu   sync.Mutex
	runs []kept // the one that was read last comes first
}

type kept struct {
	number, revised int
	run             *api.Run // nobody writes to it
}

// maxKept bounds the runs, and maxKeptCells the cells of one, of which each takes some 200
// bytes.
const (
	maxKept      = 4
	maxKeptCells = 60_000
)

func (f *few) get(number, revised int) *api.Run {
	f.mu.Lock()
	defer f.mu.Unlock()
	i := slices.IndexFunc(f.runs, func(k kept) bool { return k.number == number && k.revised == revised })
	if i < 0 {
		return nil
	}
	k := f.runs[i]
	f.runs = slices.Insert(slices.Delete(f.runs, i, i+1), 0, k)
	return k.run
}

func (f *few) put(k kept) {
	if len(k.run.Tests)*len(k.run.Panes) > maxKeptCells {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.runs = slices.DeleteFunc(f.runs, func(o kept) bool { return o.number == k.number })
	f.runs = slices.Insert(f.runs, 0, k)
	f.runs = f.runs[:min(maxKept, len(f.runs))]
}

// whole is a run to be read only, with how often it was revised.
func (r *Results) whole(ctx context.Context, number int) (v *api.Run, revised int, err error) {
	row, err := r.Row(ctx, number)
	if err != nil {
		return nil, 0, err
	}
	if v, live := r.lab.Live(row.ID); live {
		return &v, row.Revised, nil
	}
	if v := r.few.get(number, row.Revised); v != nil {
		return v, row.Revised, nil
	}
	run, err := r.Run(ctx, number)
	if err != nil {
		return nil, 0, err
	}
	if run.State == api.Ended {
		r.few.put(kept{number, row.Revised, &run})
	}
	return &run, row.Revised, nil
}

// pack and unpack write and read JSON that is compressed with gzip.
func pack(v any) ([]byte, error) {
	var b bytes.Buffer
	zw, err := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	if err := json.NewEncoder(zw).Encode(v); err != nil {
		return nil, err
	}
	if err := zw.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func unpack(packed []byte, into any) error {
	zr, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	raw, err := io.ReadAll(zr)
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, into)
}
