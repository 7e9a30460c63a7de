package order

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/lab"
	"parallelpane/internal/project"
	"parallelpane/internal/store"
)

// Submit starts a run.
func (desk *Desk) Submit(ctx context.Context, who api.Who, req api.RunRequest) (api.Run, error) {
	return desk.submit(ctx, who, req, origin{})
}

func (desk *Desk) submit(ctx context.Context, who api.Who, req api.RunRequest, from origin) (api.Run, error) {
	if req.Deal == api.Spread { // whose turn it is follows from the runs before, those that are just being written too
		desk.spreading.Lock()
		defer desk.spreading.Unlock()
		if err := desk.store.Sync(); err != nil {
			return api.Run{}, err
		}
	}
	o, err := desk.order(ctx, who, api.Runner, req)
	if err != nil {
		return api.Run{}, err
	}
	o.origin = from
	return desk.start(who, o)
}

// start has the lab make a run of an order.
func (desk *Desk) start(who api.Who, o *order) (api.Run, error) {
	all := maps.Clone(o.kept)
	maps.Copy(all, o.secrets)
	sealed, err := desk.seal.Close(all)
	if err != nil {
		return api.Run{}, err
	}
	row, panes := o.records(who)
	row.Secrets, row.SecretNames = sealed, store.JSON(slices.Sorted(maps.Keys(o.secrets)))
	return desk.lab.Start(lab.Order{Row: row, Panes: panes, Cases: o.cases, Renamed: o.renamed, Mark: o.mark, Terms: lab.Terms{
		Vars: o.env.Vars, Secrets: all, Record: o.record, Seconds: o.seconds, Profiles: o.devices,
		Watched: o.watched(), Marker: o.project.Marker, Mending: o.project.Mending, Command: o.suite.Command,
		Several: o.suite.Kind == project.SeveralKind}})
}

// watched are titles of steps at which tests failed before, by test; nil where nobody has
// looked at what was before.
func (o *order) watched() map[string][]string {
	if o.past == nil {
		return nil
	}
	return o.past.stumbles
}

// Again starts a run again with the same files and combinations: all of it, or
// only the tests that did not pass. The secrets that it had are given anew: those of a
// run that has ended are kept by nobody.
func (desk *Desk) Again(ctx context.Context, who api.Who, number int, q api.AgainRequest) (api.Run, error) {
	notPassed := q.NotPassed
	old, err := desk.records.Run(ctx, number)
	if err != nil {
		return api.Run{}, err
	}
	if old.Kind == api.RemoteKind {
		return api.Run{}, api.Errorf(api.Conflict, "run %d is of sessions that somebody else's runner opened: start that runner again", number)
	}
	if old.State != api.Ended {
		return api.Run{}, api.Errorf(api.Conflict, "run %d has not ended: wait for it or cancel it", number)
	}
	row, err := desk.records.Row(ctx, number)
	if err != nil {
		return api.Run{}, err
	}
	if lacking := lacking(row.SecretNames, q.Secrets); len(lacking) > 0 {
		return api.Run{}, api.Errorf(api.Conflict, "run %d had secrets, which went with its end: give %s again, with pane again %d --secret %s",
			number, strings.Join(lacking, ", "), number, strings.Join(lacking, " --secret "))
	}
	if err := knownTests(old.Tests, q.Tests); err != nil {
		return api.Run{}, err
	}
	old.Request.Secrets = q.Secrets
	if q.Retries != nil {
		old.Request.Retries = *q.Retries
		if err := old.Request.Check(); err != nil {
			return api.Run{}, err
		}
	}
	o, _, err := desk.unpack(old.Request)
	if err != nil {
		return api.Run{}, err
	}
	// The combinations are those of the old run, versions and all, even when the
	// matrix would come to others now.
	o.again, o.turn = number, old.Plan.Turn
	o.plan = combo.Plan{Missing: old.Plan.Missing, Cover: old.Plan.Cover}
	past, err := desk.past(ctx, old.Project, old.Suite)
	if err != nil {
		return api.Run{}, err
	}
	o.past = past
	any := false
	for i, p := range old.Panes {
		dealt, seconds := make([]bool, len(old.Tests)), make([]float64, len(old.Tests))
		wanted := false
		for j, t := range old.Tests {
			c := old.Cells[i][j]
			dealt[j] = c.State != api.Undealt && (len(q.Tests) == 0 || slices.Contains(q.Tests, t.Name)) &&
				(!notPassed || c.Verdict != verdict.Passed && c.Verdict != verdict.Flaky && c.Verdict != verdict.Unsupported)
			wanted = wanted || dealt[j]
			seconds[j] = past.book.Seconds(t.Name, p.Key, p.Values["browser"])
		}
		if !wanted {
			continue
		}
		any = true
		d, err := o.project.Profile(p.Values)
		if err != nil {
			return api.Run{}, api.Errorf(api.Invalid, "%v", err)
		}
		o.plan.Combinations = append(o.plan.Combinations, combo.Combination{Key: p.Key, Label: p.Label, Values: p.Values})
		o.dealt, o.devices, o.seconds = append(o.dealt, dealt), append(o.devices, d), append(o.seconds, seconds)
	}
	switch {
	case !any && notPassed && len(q.Tests) == 0:
		return api.Run{}, api.Errorf(api.Conflict, "run %d has nothing that did not pass: leave --not-passed out to run all of it again", number)
	case !any:
		return api.Run{}, api.Errorf(api.Conflict, "run %d has nothing like that to run again: leave --test or --not-passed out", number)
	}
	return desk.start(who, o)
}

// knownTests says which of the tests that are asked for a run has not.
func knownTests(all []api.Test, asked []string) error {
	names := make([]string, len(all))
	for i, t := range all {
		names[i] = t.Name
	}
	for _, a := range asked {
		if slices.Contains(names, a) {
			continue
		}
		hint := ""
		if near := source.Nearest(a, names); near != "" {
			hint = fmt.Sprintf(" (did you mean %q?)", near)
		}
		return api.Errorf(api.Invalid, "the run has no test %.200q%s", a, hint)
	}
	return nil
}

// lacking are the names of a list that are not given.
func lacking(names string, given map[string]string) (out []string) {
	var all []string
	_ = json.Unmarshal([]byte(names), &all) // written by the service itself
	for _, name := range all {
		if _, ok := given[name]; !ok {
			out = append(out, name)
		}
	}
	return out
}

// Recall finds the terms of a run that the lab takes up from the records.
func (desk *Desk) Recall(ctx context.Context, row store.Run, view api.Run) (t lab.Terms, err error) {
	if err := json.Unmarshal([]byte(row.Vars), &t.Vars); err != nil {
		return t, fmt.Errorf("variables of run %d: %w", row.Number, err)
	}
	settled, err := desk.settings.ProjectSettings(ctx, row.Project)
	if err != nil {
		return t, err
	}
	t.Record = record.Over(view.Request.Record, settled.Record, record.Default(false))
	if t.Secrets, err = desk.seal.Open(row.Secrets); err != nil {
		return t, err
	}
	past, err := desk.past(ctx, view.Project, view.Suite)
	if err != nil {
		return t, err
	}
	archive, err := desk.openBundle(view.Request.Bundle)
	if err != nil {
		return t, err
	}
	p, err := project.Load(archive)
	if err != nil {
		return t, err
	}
	t.Marker, t.Mending = p.Marker, p.Mending
	of, err := p.Suite(view.Suite)
	if err != nil {
		return t, err
	}
	t.Command, t.Several = of.Command, of.Kind == project.SeveralKind
	for _, pane := range view.Panes {
		profile, err := p.Profile(pane.Values)
		if err != nil {
			return t, err
		}
		t.Profiles = append(t.Profiles, profile)
		seconds := make([]float64, len(view.Tests))
		for j, test := range view.Tests {
			seconds[j] = past.book.Seconds(test.Name, pane.Key, pane.Values["browser"])
		}
		t.Seconds = append(t.Seconds, seconds)
	}
	t.Watched = past.stumbles
	return t, nil
}

// Ended is told that a run of a suite has ended: what its tests take is read anew.
func (desk *Desk) Ended(projectName, suite string) { desk.pasts.forget(projectName, suite) }
