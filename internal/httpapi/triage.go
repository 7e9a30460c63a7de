package httpapi

import (
	"context"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/service"
)

type besideIn struct {
	testIn
	api.BesideFilter
}

type locateIn struct {
	attemptIn
	api.LocateFilter
}

type betterIn struct{ api.BetterFilter }

func (in *betterIn) project(context.Context, *service.Service) (string, error) {
	return in.Project, nil
}

func (in *betterIn) missing() error {
	return api.Errorf(api.NotFound, "there is no suite %.80q in project %.80q", in.Suite, in.Project)
}

func (a *server) triageRoutes() {
	s := a.service
	add(a, "GET", "/runs/{number}/causes", within(api.Viewer), "What the failures of a run come from, the weightiest cause first",
		func(ctx context.Context, who api.Who, in *numberIn) (api.Causes, error) {
			return a.causesFor(ctx, who, in.Number)
		})
	add(a, "GET", "/runs/{number}/mending", within(api.Viewer), "Which locators of a run find nothing, and what finds their elements now",
		func(ctx context.Context, _ api.Who, in *numberIn) (api.AgedLocators, error) {
			return s.Aged(ctx, in.Number)
		})
	add(a, "GET", "/runs/{number}/tests/{test}/beside", within(api.Viewer), "A test of a run in two panes, step beside step: what differs",
		func(ctx context.Context, _ api.Who, in *besideIn) (api.Beside, error) {
			return s.Beside(ctx, in.Number, in.Test, in.BesideFilter)
		})
	add(a, "GET", "/runs/{number}/past", within(api.Viewer), "What each cell of a run came to in the last twenty runs that tried it",
		func(ctx context.Context, _ api.Who, in *numberIn) (api.Past, error) {
			return s.Past(ctx, in.Number)
		})
	add(a, "GET", "/attempts/{attempt}/pages/{name}", within(api.Viewer), "Try a locator on a page that was kept of an attempt",
		func(ctx context.Context, _ api.Who, in *locateIn) (api.Located, error) {
			return s.Locate(ctx, in.Attempt, in.Name, in.LocateFilter)
		})
	add(a, "GET", "/locators", within(api.Viewer), "List locators that passing tests of a suite met in place of brittle ones",
		func(ctx context.Context, _ api.Who, in *betterIn) ([]api.Better, error) {
			return s.Better(ctx, in.BetterFilter)
		})
	add(a, "GET", "/compare", inAny(api.Viewer), "What is different in a run, or in some of its panes, against another of its project",
		func(ctx context.Context, who api.Who, in *api.CompareFilter) (api.Compared, error) {
			in.Among = who.Projects()
			return s.Compare(ctx, *in)
		})
	add(a, "GET", "/sides", inAny(api.Viewer), "List environments, browsers, bundles and runs of a suite that can be compared",
		func(ctx context.Context, who api.Who, in *api.CompareFilter) (api.Sides, error) {
			in.Among = who.Projects()
			return s.Sides(ctx, *in)
		})
	add(a, "GET", "/unsteady", inAny(api.Viewer), "List tests whose verdict changes without their files, the most wasteful first",
		func(ctx context.Context, who api.Who, in *api.UnsteadyFilter) ([]api.UnsteadyTest, error) {
			in.Among = who.Projects()
			return s.Unsteady(ctx, *in)
		})
	add(a, "GET", "/slow", inAny(api.Viewer), "What became slower, what takes long, and which combinations are slow, suite by suite",
		func(ctx context.Context, who api.Who, in *api.SlowFilter) ([]api.Slow, error) {
			in.Among = who.Projects()
			return s.Slow(ctx, *in)
		})
	add(a, "GET", "/trends", inAny(api.Viewer), "Count what cells came to, by day and by axis, combination, test, suite or project",
		func(ctx context.Context, who api.Who, in *api.TrendFilter) (api.Trends, error) {
			in.Among = who.Projects()
			return s.Trends(ctx, *in, time.Now())
		})
	add(a, "GET", "/trends/lab", inAny(api.Viewer), "How slots were used, how long work waited, and lab faults, by day and by agent",
		func(ctx context.Context, who api.Who, in *api.LabTrendFilter) (api.LabTrends, error) {
			in.Among = who.Projects()
			return s.LabTrends(ctx, *in, time.Now())
		})
	add(a, "GET", "/overview", inAny(api.Viewer), "What runs, what waits and why, what broke, the lab's health, what comes next",
		func(ctx context.Context, who api.Who, _ *none) (api.Overview, error) {
			return a.overview(ctx, who)
		})
}
