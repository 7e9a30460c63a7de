package httpapi

import (
	"context"

	"parallelpane/internal/api"
)

type outputIn struct {
	testIn
	Pane int   `path:"pane" json:"-" description:"index of the combination, from 0"`
	From int64 `query:"from" json:"-" description:"bytes that are known"`
}

// outputs registers what commands print while they run.
func (a *server) outputs() {
	add(a, "GET", "/runs/{number}/outputs", within(api.Viewer), "The tests of a run whose commands agents have now",
		func(_ context.Context, _ api.Who, in *numberIn) ([]api.Printing, error) {
			return a.service.Outputs(in.Number), nil
		})
	add(a, "GET", "/runs/{number}/tests/{test}/panes/{pane}/output", within(api.Viewer), "What a command prints while it runs",
		func(_ context.Context, _ api.Who, in *outputIn) (api.Output, error) {
			return a.service.Output(in.Number, in.Pane, in.Test, in.From)
		})
}
