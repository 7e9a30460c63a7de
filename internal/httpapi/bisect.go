package httpapi

import (
	"context"

	"parallelpane/internal/api"
	"parallelpane/internal/service"
)

type bisectIn struct {
	numberIn
	api.BisectRequest
}

// searchIn names a search, which is its run's project's.
type searchIn struct {
	ID string `path:"id" json:"-"`
}

func (in *searchIn) project(ctx context.Context, s *service.Service) (string, error) {
	b, err := s.OneBisect(ctx, in.ID)
	return b.Project, err
}

func (in *searchIn) missing() error {
	return api.Errorf(api.NotFound, "there is no search %.100q: pane bisect list shows those there are", in.ID)
}

func (a *server) bisectRoutes() {
	s := a.service
	add(a, "POST", "/runs/{number}/bisect", within(api.Runner).as("bisect"), "Look for the version or bundle from which on a test fails",
		func(ctx context.Context, who api.Who, in *bisectIn) (api.Bisect, error) {
			b, err := s.Bisect(ctx, who, in.Number, in.BisectRequest)
			if err == nil {
				deedIn(ctx).on(b.Test).changed(nil, map[string]any{"search": b.ID, "axis": b.Axis, "candidates": b.Candidates})
			}
			return b, err
		})
	add(a, "GET", "/bisects", inAny(api.Viewer), "List searches for where a test begins to fail, newest first",
		func(ctx context.Context, who api.Who, _ *none) ([]api.Bisect, error) {
			all, err := s.Bisects(ctx)
			return seen(who, all, func(b api.Bisect) string { return b.Project }), err
		})
	add(a, "GET", "/bisects/{id}", within(api.Viewer), "A search for where a test begins to fail",
		func(ctx context.Context, _ api.Who, in *searchIn) (api.Bisect, error) {
			return s.OneBisect(ctx, in.ID)
		})
	add(a, "POST", "/bisects/{id}/end", within(api.Runner).as("bisect end"), "End a search before it has its answer",
		func(ctx context.Context, who api.Who, in *searchIn) (api.Bisect, error) {
			return s.EndBisect(ctx, who, in.ID)
		})
}
