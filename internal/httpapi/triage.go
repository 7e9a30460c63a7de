package httpapi

import (
	"context"

	"parallelpane/internal/api"
)

type againstIn struct {
	numberIn
	Other int `path:"other" json:"-" description:"number of the run that it is compared with"`
}

func (a *server) triageRoutes() {
	s := a.service
	add(a, "GET", "/runs/{number}/causes", within(api.Viewer), "What the failures of a run come from, the weightiest cause first",
		func(ctx context.Context, _ api.Who, in *numberIn) (api.Causes, error) {
			return s.Causes(ctx, in.Number)
		})
	add(a, "GET", "/runs/{number}/against/{other}", within(api.Viewer), "What is different in a run against another of its project",
		func(ctx context.Context, who api.Who, in *againstIn) (api.Compared, error) {
			return s.Compare(ctx, in.Other, in.Number)
		})
	add(a, "GET", "/unsteady", inAny(api.Viewer), "List tests whose verdict changes without their files, the most wasteful first",
		func(ctx context.Context, who api.Who, in *api.UnsteadyFilter) ([]api.UnsteadyTest, error) {
			in.Among = who.Projects()
			return s.Unsteady(ctx, *in)
		})
}
