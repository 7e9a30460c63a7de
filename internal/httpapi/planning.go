package httpapi

import (
	"context"
	"slices"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/service"
)

type previewIn struct {
	api.ScheduleRequest
	Count int `json:"count,omitempty" minimum:"1" maximum:"1000" description:"how many occurrences; 5 if not given"`
}

type asideSetIn struct{ api.AsideRequest }

func (in *asideSetIn) project(context.Context, *service.Service) (string, error) {
	return in.Project, nil
}

func (in *asideSetIn) missing() error { return noTest(in.AsideName) }

type asideEndIn struct{ api.AsideName }

func (in *asideEndIn) project(context.Context, *service.Service) (string, error) {
	return in.Project, nil
}

func (in *asideEndIn) missing() error { return noTest(in.AsideName) }

// noTest is what somebody is told who may not know of a test's project.
func noTest(n api.AsideName) error {
	return api.Errorf(api.NotFound, "there is no test %.80q of suite %.80q in project %.80q", n.Test, n.Suite, n.Project)
}

// planning lists the operations on quotas, presets and schedules.
func (a *server) planning() {
	s := a.service
	add(a, "GET", "/quotas", inAny(api.Viewer), "List quotas and weights", func(ctx context.Context, who api.Who,
		_ *none) ([]api.Quota, error) {
		all, err := s.Quotas(ctx)
		return slices.DeleteFunc(all, func(q api.Quota) bool {
			return q.Kind == dispatch.OfProject && !who.May(api.Viewer, q.Name) ||
				q.Kind == dispatch.OfOwner && q.Name != who.Person() && !who.May(api.Viewer, api.Everywhere)
		}), err
	})
	add(a, "POST", "/quotas", inLab(api.Admin).as("quota set"), "Set a quota or weight; the list is the answer", func(ctx context.Context,
		_ api.Who, in *api.QuotaRequest) ([]api.Quota, error) {
		before, err := s.Quotas(ctx)
		if err != nil {
			return nil, err
		}
		all, err := s.SetQuota(ctx, *in)
		deedIn(ctx).on(string(in.Kind)+" "+in.Name).changed(quotaOf(before, *in), *in)
		return all, err
	})
	add(a, "DELETE", "/quotas/{id}", inLab(api.Admin).as("quota drop"), "Remove a quota", func(ctx context.Context, _ api.Who,
		in *idIn) (none, error) {
		before, err := s.Quotas(ctx)
		if err != nil {
			return none{}, err
		}
		if i := slices.IndexFunc(before, func(q api.Quota) bool { return q.ID == in.ID }); i >= 0 {
			deedIn(ctx).on(string(before[i].Kind)+" "+before[i].Name).changed(before[i], nil)
		}
		return none{}, s.DropQuota(ctx, in.ID)
	})
	add(a, "GET", "/aside", inAny(api.Viewer), "List tests that are set aside: they run, and their failures turn no run red",
		func(_ context.Context, who api.Who, in *api.AsideFilter) ([]api.Aside, error) {
			return seen(who, s.Asides(*in), func(x api.Aside) string { return x.Project }), nil
		})
	add(a, "POST", "/aside", within(api.Runner).as("test aside"), "Set a test aside until a time",
		func(ctx context.Context, who api.Who, in *asideSetIn) (api.Aside, error) {
			x, err := s.SetAside(ctx, who, in.AsideRequest)
			if err == nil {
				deedIn(ctx).on(in.Suite+" "+in.Test).changed(nil, x)
			}
			return x, err
		})
	add(a, "DELETE", "/aside", within(api.Runner).as("test back"), "Have the failures of a test count again",
		func(ctx context.Context, _ api.Who, in *asideEndIn) (none, error) {
			deedIn(ctx).on(in.Suite + " " + in.Test)
			return none{}, s.EndAside(in.AsideName)
		})
	add(a, "GET", "/presets", inAny(api.Viewer), "List presets", func(ctx context.Context, who api.Who, _ *none) ([]api.Preset, error) {
		all, err := s.Presets(ctx)
		return seen(who, all, func(p api.Preset) string { return p.Project }), err
	})
	add(a, "POST", "/presets", inAny(api.Runner).as("preset save"), "Save a run request under a name, in place of what was there",
		func(ctx context.Context, who api.Who, in *api.PresetRequest) (api.Preset, error) {
			before, _ := s.Preset(ctx, in.Name)
			p, err := s.SavePreset(ctx, who, *in)
			d := deedIn(ctx).on(in.Name)
			if d.Project = p.Project; before.Name != "" {
				d.Before = before.Request
			}
			d.After = p.Request
			return p, err
		})
	add(a, "DELETE", "/presets/{name}", within(api.Runner).as("preset drop"), "Remove a preset that no schedule uses",
		func(ctx context.Context, _ api.Who, in *presetIn) (none, error) {
			before, err := s.Preset(ctx, in.Name)
			if err != nil {
				return none{}, err
			}
			deedIn(ctx).changed(before.Request, nil)
			return none{}, s.DropPreset(ctx, in.Name)
		})
	add(a, "POST", "/presets/{name}/run", within(api.Runner).as("preset run"), "Start a run as a preset says", func(ctx context.Context,
		who api.Who, in *presetIn) (api.Run, error) {
		run, err := s.RunPreset(ctx, who, in.Name)
		return started(ctx, run), err
	})
	add(a, "GET", "/schedules", inAny(api.Viewer), "List schedules with their next occurrences", func(ctx context.Context, who api.Who,
		_ *none) ([]api.Schedule, error) {
		all, err := s.Schedules(ctx)
		return seen(who, all, func(x api.Schedule) string { return x.Project }), err
	})
	add(a, "POST", "/schedules", inAny(api.Runner).as("schedule add"), "Run a preset again and again", func(ctx context.Context, who api.Who,
		in *api.ScheduleRequest) (api.Schedule, error) {
		if err := a.allowed(ctx, who, within(api.Runner), &presetIn{in.Preset}); err != nil {
			return api.Schedule{}, err
		}
		x, err := s.AddSchedule(ctx, who, *in)
		d := deedIn(ctx).on(in.Name)
		d.Project, d.After = x.Project, *in
		return x, err
	})
	add(a, "POST", "/schedules/preview", inAny(api.Viewer), "List the occurrences of a rule; name and preset are not needed",
		func(_ context.Context, _ api.Who, in *previewIn) (api.Occurrences, error) {
			if in.Count == 0 {
				in.Count = 5
			}
			if in.Count < 1 || in.Count > 1000 {
				return api.Occurrences{}, invalid("count: expected 1 to 1000, found %d", in.Count)
			}
			return s.Occurrences(in.ScheduleRequest, in.Count)
		})
	for path, paused := range map[string]bool{"pause": true, "resume": false} {
		add(a, "POST", "/schedules/{name}/"+path, within(api.Runner).as("schedule "+path), map[bool]string{true: "Pause a schedule",
			false: "Let a paused schedule go on"}[paused],
			func(ctx context.Context, _ api.Who, in *scheduleIn) (api.Schedule, error) {
				return s.PauseSchedule(ctx, in.Name, paused)
			})
	}
	add(a, "DELETE", "/schedules/{name}", within(api.Runner).as("schedule drop"), "Remove a schedule", func(ctx context.Context, _ api.Who,
		in *scheduleIn) (none, error) {
		return none{}, s.DropSchedule(ctx, in.Name)
	})
}

// quotaOf is the quota that one would take the place of; nil if there is none.
func quotaOf(all []api.Quota, q api.QuotaRequest) any {
	i := slices.IndexFunc(all, func(x api.Quota) bool { return x.Kind == q.Kind && x.Name == q.Name })
	if i < 0 {
		return nil
	}
	return all[i]
}

// calendar serves the feed of the schedules. Calendar programs know Basic
// authorisation only: any name, and a token as the password.
func (a *server) calendar(c fiber.Ctx) error {
	who, err := a.who(c, inAny(api.Viewer))
	if err == nil {
		var leave func()
		if leave, err = a.enter(c, who, working); err == nil {
			defer leave()
		}
	}
	if err != nil {
		c.Set(fiber.HeaderWWWAuthenticate, `Basic realm="Parallel Pane", charset="UTF-8"`)
		return err
	}
	feed, err := a.service.Calendar(c.Context(), who)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "text/calendar; charset=utf-8")
	c.Set(fiber.HeaderContentDisposition, `inline; filename="schedules.ics"`)
	c.Set(fiber.HeaderCacheControl, "no-store")
	return c.SendString(feed)
}
