package order

import (
	"context"
	"maps"
	"slices"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/lab"
	"parallelpane/internal/project"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// PlanMatrix plans a matrix against the fleet.
func (desk *Desk) PlanMatrix(who api.Who, m combo.Matrix, projectName string) (api.PlannedMatrix, error) {
	known := desk.lab.Fleet(who, projectName)
	p, err := m.Plan(known)
	if err != nil {
		return api.PlannedMatrix{}, api.Errorf(api.Invalid, "%v", err)
	}
	out := api.PlannedMatrix{Plan: p, Agents: make([][]string, len(p.Combinations))}
	for i, c := range p.Combinations {
		needs := fleet.NeedsOf(projectName, c.Values)
		for _, a := range known.Members {
			if fleet.Match(needs, a.Facts) == nil {
				out.Agents[i] = append(out.Agents[i], a.Name)
			}
		}
	}
	return out, nil
}

// Preview works a request out without starting it.
func (desk *Desk) Preview(ctx context.Context, who api.Who, req api.RunRequest) (api.Preview, error) {
	o, err := desk.order(ctx, who, api.Viewer, req)
	if err != nil {
		return api.Preview{}, err
	}
	p := api.Preview{Project: o.project.Name, Suite: o.suite.Name, Matrix: o.req.Matrix, Environment: o.env.Name,
		Combinations: o.plan.Combinations,
		Missing:      o.plan.Missing[:min(maxMissing, len(o.plan.Missing))], Matrices: o.project.Matrices, Request: o.req}
	settings, err := o.project.Explain(o.env.Name, project.Layer{From: "the run", Base: req.Base, Vars: req.Vars})
	if err != nil {
		return p, err
	}
	p.Settings = settingsOf(settings)
	for _, name := range slices.Sorted(maps.Keys(o.from)) {
		p.Settings = append(p.Settings, api.Setting{Name: "secrets." + name, Value: "(kept)", From: o.from[name], Over: []api.Setting{}})
	}
	for _, x := range o.project.Suites {
		p.Suites = append(p.Suites, x.Name)
	}
	for _, x := range o.project.Environments {
		p.Environments = append(p.Environments, x.Name)
	}
	for _, x := range o.cases {
		p.Tests = append(p.Tests, x.Name)
		p.Tags = append(p.Tags, x.Tags...)
	}
	slices.Sort(p.Tags)
	p.Tags = slices.Compact(p.Tags)
	for i, row := range o.dealt {
		for j, dealt := range row {
			if dealt && o.plan.Combinations[i].Impossible == "" {
				p.Cases++
				if o.seconds[i][j] == 0 {
					p.Unknown++
				}
			}
		}
	}
	row, panes := o.records(who)
	view, err := walls.RunOf(row, store.Whole{Panes: panes, Tests: walls.Tests(o.cases)})
	if err != nil {
		return p, err
	}
	work := lab.Work(view, o.seconds, nil)
	for i, c := range o.plan.Combinations {
		for j := range work.Panes[i].Tests {
			work.Panes[i].Tests[j].Settled = work.Panes[i].Tests[j].Settled || c.Impossible != ""
		}
	}
	p.ExpectedS, _ = desk.lab.Expect(ctx, work)
	p.Met, err = desk.metOfLate(ctx, o)
	return p, err
}

func settingsOf(all []project.Value) []api.Setting {
	out := make([]api.Setting, len(all))
	for i, v := range all {
		out[i] = api.Setting{Name: v.Name, Value: v.Value, From: v.From, Over: settingsOf(v.Over)}
	}
	return out
}

// metOfLate looks at the newest runs of an order's suite, by what is noted of each
// pair: it costs the same however much there is on record.
func (desk *Desk) metOfLate(ctx context.Context, o *order) (api.Met, error) {
	first, err := desk.store.RunBefore(ctx, o.project.Name, o.suite.Name, o.req.Matrix, walls.MetRuns)
	if err != nil {
		return api.Met{}, err
	}
	m, on := walls.MetOn(walls.Names(o.cases, func(c suite.Case) string { return c.Name }),
		walls.Names(o.plan.Combinations, func(c combo.Combination) string { return c.Key }))
	for _, e := range o.past.rows {
		if e.LastRun > 0 && e.LastRun >= first && on(e.Test, e.Key) {
			m.Met++
		}
	}
	return m, nil
}

// forecastLimit is for how long a forecast is worked on.
const forecastLimit = 10 * time.Second

// Forecast makes a forecast; one that takes longer than forecastLimit is given up.
func (desk *Desk) Forecast(ctx context.Context, req api.ForecastRequest) (api.ForecastAnswer, error) {
	var out api.ForecastAnswer
	var q plan.Question
	var err error
	switch {
	case (req.Question == nil) == (req.Run == 0):
		return out, api.Errorf(api.Invalid, "expected either a question or the number of a run")
	case len(req.More) > 12:
		return out, api.Errorf(api.Invalid, "more: expected at most 12 numbers, found %d", len(req.More))
	case req.Question != nil:
		q, err = plan.Decode(*req.Question)
	default:
		q, err = desk.questionOf(ctx, req.Run)
	}
	if err != nil {
		if _, ok := err.(*api.Error); ok {
			return out, err
		}
		return out, api.Errorf(api.Invalid, "%v", err)
	}
	if req.Limit > 0 {
		q.Limit = req.Limit
	}
	for _, n := range req.More {
		if n < 0 || n > 500 {
			return out, api.Errorf(api.Invalid, "more: expected numbers from 0 to 500, found %d", n)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, forecastLimit)
	defer cancel()
	if out.Forecast, err = q.Run(ctx); err != nil {
		return out, api.Errorf(api.Invalid, "%v", err)
	}
	if len(req.More) > 0 {
		if out.WhatIf, out.Knee, err = q.WhatIf(ctx, req.More); err != nil {
			return out, api.Errorf(api.Invalid, "%v", err)
		}
	}
	return out, nil
}

// questionOf asks what a run would take now, with the durations it had.
func (desk *Desk) questionOf(ctx context.Context, number int) (plan.Question, error) {
	run, err := desk.records.Run(ctx, number)
	if err != nil {
		return plan.Question{}, err
	}
	q := plan.Question{Known: true, Limit: run.Request.Limit}
	for i, p := range run.Panes {
		for j, t := range run.Tests {
			if c := run.Cells[i][j]; c.TookMS > 0 {
				q.Tests = append(q.Tests, plan.Test{ID: p.Label + ": " + t.Name, Seconds: float64(c.TookMS) / 1000, Needs: p.Needs, Locks: t.Locks})
			}
		}
	}
	if len(q.Tests) == 0 {
		return q, api.Errorf(api.Conflict, "run %d has no test with a duration yet", number)
	}
	q.Agents = desk.lab.Hosts()
	if len(q.Agents) == 0 {
		return q, api.Errorf(api.Conflict, "no agent takes work now: a forecast needs a fleet")
	}
	return q, nil
}

// Suites lists the suites that can be run without sending files.
func (desk *Desk) Suites(ctx context.Context) ([]api.KnownSuite, error) {
	rows, err := desk.store.Suites(ctx)
	out := []api.KnownSuite{}
	for _, r := range rows {
		out = append(out, api.KnownSuite{Project: r.Project, Suite: r.Suite, Bundle: r.Bundle, At: api.At(r.At)})
	}
	return out, err
}
