package httpapi

import (
	"context"

	"parallelpane/internal/api"

	"github.com/gofiber/fiber/v3"
)

type previewIn struct {
	api.ScheduleRequest
	Count int `json:"count,omitempty" minimum:"1" maximum:"1000" description:"how many occurrences; 5 if not given"`
}

// planning lists the operations on quotas, presets and schedules.
func (a *server) planning() {
	s := a.service
	add(a, "GET", "/quotas", api.Viewer, "List quotas and weights", func(ctx context.Context, _ api.Who, _ *none) ([]api.Quota, error) {
		return s.Quotas(ctx)
	})
	add(a, "POST", "/quotas", api.Admin, "Set a quota or weight; the list is the answer", func(ctx context.Context, _ api.Who,
		in *api.QuotaRequest) ([]api.Quota, error) {
		return s.SetQuota(ctx, *in)
	})
	add(a, "DELETE", "/quotas/{id}", api.Admin, "Remove a quota", func(ctx context.Context, _ api.Who, in *idIn) (none, error) {
		return none{}, s.DropQuota(ctx, in.ID)
	})
	add(a, "GET", "/presets", api.Viewer, "List presets", func(ctx context.Context, _ api.Who, _ *none) ([]api.Preset, error) {
		return s.Presets(ctx)
	})
	add(a, "POST", "/presets", api.Runner, "Save a run request under a name, in place of what was there", func(ctx context.Context,
		who api.Who, in *api.PresetRequest) (api.Preset, error) {
		return s.SavePreset(ctx, who, *in)
	})
	add(a, "DELETE", "/presets/{name}", api.Runner, "Remove a preset that no schedule uses", func(ctx context.Context,
		_ api.Who, in *nameIn) (none, error) {
		return none{}, s.DropPreset(ctx, in.Name)
	})
	add(a, "POST", "/presets/{name}/run", api.Runner, "Start a run as a preset says", func(ctx context.Context, who api.Who,
		in *nameIn) (api.Run, error) {
		return s.RunPreset(ctx, who, in.Name)
	})
	add(a, "GET", "/schedules", api.Viewer, "List schedules with their next occurrences", func(ctx context.Context, _ api.Who,
		_ *none) ([]api.Schedule, error) {
		return s.Schedules(ctx)
	})
	add(a, "POST", "/schedules", api.Runner, "Run a preset again and again", func(ctx context.Context, who api.Who,
		in *api.ScheduleRequest) (api.Schedule, error) {
		return s.AddSchedule(ctx, who, *in)
	})
	add(a, "POST", "/schedules/preview", api.Viewer, "List the occurrences of a rule; name and preset are not needed",
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
		add(a, "POST", "/schedules/{name}/"+path, api.Runner, map[bool]string{true: "Pause a schedule",
			false: "Let a paused schedule go on"}[paused],
			func(ctx context.Context, _ api.Who, in *nameIn) (api.Schedule, error) {
				return s.PauseSchedule(ctx, in.Name, paused)
			})
	}
	add(a, "DELETE", "/schedules/{name}", api.Runner, "Remove a schedule", func(ctx context.Context, _ api.Who, in *nameIn) (none, error) {
		return none{}, s.DropSchedule(ctx, in.Name)
	})
}

// calendar serves the feed of the schedules. Calendar programs know Basic
// authorisation only: any name, and a token as the password.
func (a *server) calendar(c fiber.Ctx) error {
	if _, err := a.who(c, api.Viewer); err != nil {
		c.Set(fiber.HeaderWWWAuthenticate, `Basic realm="Parallel Pane", charset="UTF-8"`)
		return err
	}
	feed, err := a.service.Calendar(c.Context())
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "text/calendar; charset=utf-8")
	c.Set(fiber.HeaderContentDisposition, `inline; filename="schedules.ics"`)
	c.Set(fiber.HeaderCacheControl, "no-store")
	return c.SendString(feed)
}
