package results

import (
	"context"
	"strconv"

	"parallelpane/internal/api"
)

// Past is what each cell of a run came to in the last runs that tried it, up to this one.
func (r *Results) Past(ctx context.Context, number int) (api.Past, error) {
	row, err := r.Row(ctx, number)
	if err != nil {
		return api.Past{}, err
	}
	out := api.Past{Run: number, Strips: [][]string{}}
	if err := r.store.Sync(); err != nil { // what was settled just now belongs to it
		return out, err
	}
	all, err := r.store.PastOf(ctx, row.Number)
	if err != nil {
		return out, err
	}
	for _, p := range all {
		for len(out.Strips) <= p.Pane {
			out.Strips = append(out.Strips, []string{})
		}
		for len(out.Strips[p.Pane]) <= p.Test {
			out.Strips[p.Pane] = append(out.Strips[p.Pane], "")
		}
		out.Strips[p.Pane][p.Test] = strip(p.Runs, number)
	}
	return out, nil
}

// token is a letter and the number of a run.
const token = 7

// strip is the letters of the runs up to one, oldest first.
func strip(runs string, upTo int) string {
	type at struct {
		run    int64
		letter byte
	}
	var in [maxStrip]at
	n := 0
	for ; len(runs) >= token && n < len(in); runs = runs[token:] {
		run, err := strconv.ParseInt(runs[1:token], 16, 64)
		if err != nil || run > int64(upTo) {
			continue
		}
		i := n // runs that go on side by side end in any order
		for i > 0 && in[i-1].run > run {
			in[i] = in[i-1]
			i--
		}
		in[i] = at{run, runs[0] | 0x20}
		n++
	}
	var out [maxStrip]byte
	for i := range n {
		out[i] = in[i].letter
	}
	return string(out[:n])
}
