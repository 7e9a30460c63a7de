package order

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/store"
)

// Presets lists the presets by name.
func (desk *Desk) Presets(ctx context.Context) ([]api.Preset, error) {
	rows, err := desk.store.Presets(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Preset{}
	for _, r := range rows {
		p := api.Preset{Name: r.Name, Project: r.Project, MadeBy: r.MadeBy, MadeAt: api.At(r.MadeAt), ChangedBy: r.ChangedBy,
			ChangedAt: api.At(r.ChangedAt),
			Used:      r.Used, LastRun: r.LastRun, LastBy: r.LastBy, LastAt: api.At(r.LastAt), ID: r.ID}
		if err := json.Unmarshal([]byte(r.Request), &p.Request); err != nil {
			return nil, fmt.Errorf("records of preset %s: %w", r.Name, err)
		}
		out = append(out, p)
	}
	return out, nil
}

// Preset finds a preset by its name.
func (desk *Desk) Preset(ctx context.Context, name string) (api.Preset, error) {
	all, err := desk.Presets(ctx)
	if err != nil {
		return api.Preset{}, err
	}
	for _, p := range all {
		if p.Name == name {
			return p, nil
		}
	}
	return api.Preset{}, api.Errorf(api.NotFound, "there is no preset %q: pane preset list shows those there are", name)
}

// SavePreset saves a request under a name, in place of what was there. The
// request must be one that could be run.
func (desk *Desk) SavePreset(ctx context.Context, who api.Who, req api.PresetRequest) (api.Preset, error) {
	if !fleet.IsName(req.Name) {
		return api.Preset{}, api.Errorf(api.Invalid, "%q is not a name for a preset: letters, digits, '.', '-' and '_', at most 64", req.Name)
	}
	if len(req.Request.Secrets) > 0 {
		return api.Preset{}, api.Errorf(api.Invalid, "a preset keeps no secrets: leave them out, and give them to the run")
	}
	o, err := desk.order(ctx, who, api.Runner, req.Request)
	if err != nil {
		return api.Preset{}, err
	}
	if old, err := desk.Preset(ctx, req.Name); err == nil && old.Project != o.project.Name {
		return api.Preset{}, api.Errorf(api.Conflict, "the name %s is taken by a preset of another project: choose another", req.Name)
	}
	by, now := who.Person(), store.Millis(desk.now())
	if err := desk.store.Write(store.SavePreset(store.Preset{ID: store.NewID(), Name: req.Name, Project: o.project.Name,
		Bundle: o.req.Bundle, Request: store.JSON(o.req),
		MadeBy: by, MadeAt: now, ChangedBy: by, ChangedAt: now})); err != nil {
		return api.Preset{}, err
	}
	return desk.Preset(ctx, req.Name)
}

// DropPreset removes a preset that no schedule uses.
func (desk *Desk) DropPreset(ctx context.Context, name string) error {
	p, err := desk.Preset(ctx, name)
	if err != nil {
		return err
	}
	if err := desk.store.Write(store.DropPreset(p.ID)); errors.Is(err, store.ErrGuard) {
		all, err := desk.store.Schedules(ctx)
		var users []string
		for _, x := range all {
			if x.PresetID == p.ID {
				users = append(users, x.Name)
			}
		}
		return errors.Join(err, api.Errorf(api.Conflict, "the preset %s is used by the schedule %s: remove that first",
			name, strings.Join(users, ", ")))
	} else if err != nil {
		return err
	}
	return nil
}

// RunPreset starts a run as a preset says.
func (desk *Desk) RunPreset(ctx context.Context, who api.Who, name string) (api.Run, error) {
	return desk.runPreset(ctx, who, name, origin{})
}

func (desk *Desk) runPreset(ctx context.Context, who api.Who, name string, from origin) (api.Run, error) {
	p, err := desk.Preset(ctx, name)
	if err != nil {
		return api.Run{}, err
	}
	from.preset = p.ID
	return desk.submit(ctx, who, p.Request, from)
}
