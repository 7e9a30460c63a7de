package order

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/place"
	"parallelpane/internal/project"
	"parallelpane/internal/store"
)

// maxMissing bounds what a run's plan keeps.
const maxMissing = 200

// order is a request worked out: what would run where.
type order struct {
	req     api.RunRequest
	project *project.Project
	suite   project.Suite
	env     project.Environment
	cases   []suite.Case
	files   *project.Archive
	all     []suite.Case // of the suite, whether they are asked for or not
	renamed []suite.Rename
	plan    combo.Plan
	turn    int
	dealt   [][]bool // by pane and test
	devices []device.Profile
	seconds [][]float64 // estimates
	past    *past
	secrets map[string]string // given with the request
	kept    map[string]string // by the project
	from    map[string]string // where each of them comes from
	record  record.Policy
	origin
}

// origin says where an order came from.
type origin struct {
	again    int // run it repeats
	preset   string
	schedule string
	mark     func(run int) store.Stmt // written with the run: that its schedule has occurred; may be nil
}

// unpack checks a request and reads its files; what runs where is still open.
func (desk *Desk) unpack(req api.RunRequest) (*order, combo.Matrix, error) {
	fail := func(err error) (*order, combo.Matrix, error) { return nil, combo.Matrix{}, err }
	if err := req.Check(); err != nil {
		return fail(err)
	}
	if !desk.blobs.Has(req.Bundle) {
		return fail(api.Errorf(api.Invalid, "bundle %q is not here: send it first with PUT /api/v1/bundles/…", req.Bundle))
	}
	archive, err := desk.openBundle(req.Bundle)
	if err != nil {
		return fail(err)
	}
	o := &order{}
	if o.project, o.suite, o.cases, err = loadSuite(archive, req.Suite); err != nil {
		return fail(err)
	}
	o.files, o.all = archive, o.cases
	matrix, err := o.project.Matrix(req.Matrix)
	if err != nil {
		return fail(api.Errorf(api.Invalid, "%v", err))
	}
	if o.env, err = environment(o.project, req); err != nil {
		return fail(err)
	}
	req.Needs = o.suite.Needs.With(req.Needs)
	if o.suite.Commands() {
		req.Tests = suite.Files(o.cases, req.Tests)
		req.Needs = req.Needs.With(fleet.Needs{"commands": {"yes"}})
	}
	if o.cases, err = suite.Choose(o.cases, req.Tags, req.Tests); err != nil {
		return fail(api.Errorf(api.Invalid, "%v", err))
	}
	if err := desk.relayed(o.project.Name, req.Relay, o.env.Base); err != nil {
		return fail(err)
	}
	settled, err := desk.settings.ProjectSettings(context.Background(), o.project.Name)
	if err != nil {
		return fail(err)
	}
	o.record = record.Over(req.Record, settled.Record, record.Default(false))
	o.secrets, req.Secrets = req.Secrets, nil // they are kept apart from the request
	if o.kept, o.from, err = desk.vault.For(context.Background(), o.project.Name, o.env.Name, o.suite.Secrets, o.secrets); err != nil {
		return fail(err)
	}
	req.Suite, req.Matrix, req.Environment = o.suite.Name, matrix.Name, o.env.Name
	o.req = req
	return o, matrix, nil
}

// order works a request out against the fleet as it is now, for somebody who needs a
// role in the project of its files.
func (desk *Desk) order(ctx context.Context, who api.Who, role api.Role, req api.RunRequest) (*order, error) {
	o, matrix, err := desk.unpack(req)
	if err != nil {
		return nil, err
	}
	if !who.May(role, o.project.Name) {
		return nil, api.Errorf(api.Forbidden, "these files are of the project %s, in which the token %q has not the role %s",
			o.project.Name, who.Name, role)
	}
	known := desk.lab.Fleet(who, o.project.Name)
	if err := knownBrowsers(known, matrix); err != nil {
		return nil, err
	}
	if o.plan, err = matrix.Plan(known); err != nil {
		return nil, api.Errorf(api.Invalid, "%v", err)
	}
	if n := len(o.plan.Combinations) * len(o.cases); n > api.MaxCells {
		return nil, api.Errorf(api.Invalid, "%d tests in %d combinations are %d; a run holds at most %d: choose fewer with --tag or "+
			"--test, or a cover such as pairs",
			len(o.cases), len(o.plan.Combinations), n, api.MaxCells)
	}
	for _, c := range o.plan.Combinations {
		d, err := o.project.Profile(c.Values)
		if err != nil {
			return nil, api.Errorf(api.Invalid, "matrix %s: %v", matrix.Name, err)
		}
		o.devices = append(o.devices, d)
	}
	if err := desk.dealOut(ctx, o); err != nil {
		return nil, err
	}
	past, err := desk.past(ctx, o.project.Name, o.suite.Name)
	if err != nil {
		return nil, err
	}
	o.past = past
	if o.renamed, err = desk.renamed(ctx, o); err != nil {
		return nil, err
	}
	for _, c := range o.plan.Combinations {
		row := make([]float64, len(o.cases))
		for j, sc := range o.cases {
			row[j] = past.book.Seconds(suite.FormerName(o.renamed, sc.Name), c.Key, c.Values["browser"])
		}
		o.seconds = append(o.seconds, row)
	}
	return o, nil
}

// dealOut says which pane gets which test.
func (desk *Desk) dealOut(ctx context.Context, o *order) error {
	panes, tests := len(o.plan.Combinations), len(o.cases)
	o.dealt = make([][]bool, panes)
	for i := range o.dealt {
		o.dealt[i] = slices.Repeat([]bool{o.req.Deal != api.Spread}, tests)
	}
	if o.req.Deal != api.Spread {
		return nil
	}
	turn, err := desk.store.Spreads(ctx, o.project.Name, o.suite.Name, o.req.Matrix)
	if err != nil {
		return err
	}
	o.turn = turn
	able := make([]bool, panes)
	for i, c := range o.plan.Combinations {
		able[i] = c.Impossible == ""
	}
	if !slices.Contains(able, true) { // the wall then says so of one pane
		able[0] = true
	}
	for test, pane := range plan.Spread(tests, able, turn) {
		o.dealt[pane][test] = true
	}
	return nil
}

// records are the rows of an order's run.
func (o *order) records(who api.Who) (row store.Run, panes []store.Pane) {
	cells := 0
	for i, c := range o.plan.Combinations {
		mine := []int{}
		for j, dealt := range o.dealt[i] {
			if dealt {
				mine = append(mine, j)
			}
		}
		cells += len(mine)
		p := store.Pane{Index: i, Key: c.Key, Label: c.Label, Values: store.JSON(c.Values),
			Needs: store.JSON(fleet.NeedsOf(o.project.Name, c.Values).With(o.req.Needs))}
		if len(mine) < len(o.cases) {
			p.Dealt = store.JSON(mine)
		}
		panes = append(panes, p)
	}
	p := api.RunPlan{Missing: o.plan.Missing[:min(maxMissing, len(o.plan.Missing))], Cover: o.plan.Cover, Turn: o.turn, Renamed: o.renamed}
	p.Cover.Left += len(o.plan.Missing) - len(p.Missing)
	return store.Run{
		ID: store.NewID(), Kind: api.ScriptKind, Project: o.project.Name, Suite: o.suite.Name, Matrix: o.req.Matrix,
		Environment: o.env.Name, Base: o.env.Base, Vars: store.JSON(o.env.Vars), Bundle: o.req.Bundle, Request: store.JSON(o.req),
		By: who.Person(), Counts: store.JSON(verdict.Counts{verdict.Pending: cells}),
		Plan: store.JSON(p), AgainOf: o.again, PresetID: o.preset, ScheduleID: o.schedule, Spread: o.req.Deal == api.Spread,
	}, panes
}

func loadSuite(files project.Files, name string) (*project.Project, project.Suite, []suite.Case, error) {
	fail := func(err error) (*project.Project, project.Suite, []suite.Case, error) {
		if ps, ok := errors.AsType[source.Problems](err); ok {
			return nil, project.Suite{}, nil, &api.Error{Kind: api.Invalid, Message: "the bundle's files have problems", Problems: ps}
		}
		return nil, project.Suite{}, nil, api.Errorf(api.Invalid, "%v", err)
	}
	p, err := project.Load(files)
	if err != nil {
		return fail(err)
	}
	found, err := p.Suite(name)
	if err != nil {
		return fail(err)
	}
	cases, err := p.Cases(files, found)
	if err != nil {
		return fail(err)
	}
	return p, found, cases, nil
}

// environment is the request's environment with the request's own values on
// top.
func environment(p *project.Project, req api.RunRequest) (project.Environment, error) {
	env, err := p.Environment(req.Environment)
	if err != nil {
		return env, api.Errorf(api.Invalid, "%v", err)
	}
	vars := maps.Clone(env.Vars)
	if vars == nil {
		vars = map[string]string{}
	}
	maps.Copy(vars, req.Vars)
	env.Vars = vars
	if req.Base != "" {
		if err := project.CheckBase(req.Base); err != nil {
			return env, api.Errorf(api.Invalid, "base: %v", err)
		}
		env.Base = req.Base
	}
	return env, nil
}

// ownBrowsers are the browsers that some agent could have even if none has now.
var ownBrowsers = []string{"chromium", "firefox", "webkitgtk"}

// knownBrowsers refuses browsers that nobody has ever heard of, which are
// spelling mistakes; a known one that no agent has becomes an unsupported pane.
func knownBrowsers(now fleet.Lab, m combo.Matrix) error {
	known := slices.Clone(ownBrowsers)
	for _, a := range now.Members {
		for _, b := range a.Facts["browser"] {
			if !slices.Contains(known, b) {
				known = append(known, b)
			}
		}
	}
	axes := slices.Clone(m.Axes)
	for _, values := range m.Add {
		if values["browser"] == "" && values["engine"] == "" {
			return api.Errorf(api.Invalid, "matrix %s: an added combination has no browser and no engine: every combination needs one of them",
				m.Name)
		}
		for _, name := range []string{"browser", "mode"} {
			if v, ok := values[name]; ok {
				axes = append(axes, combo.Axis{Name: name, Values: []string{v}})
			}
		}
	}
	for _, a := range axes {
		for _, v := range a.Values {
			switch {
			case a.Name == "browser" && !slices.Contains(known, v):
				hint := ""
				if near := source.Nearest(v, known); near != "" {
					hint = fmt.Sprintf(" (did you mean %q?)", near)
				}
				return api.Errorf(api.Invalid, "matrix %s: unknown browser %q%s: there are %s", m.Name, v, hint, strings.Join(known, ", "))
			case a.Name == "mode" && v != "headless" && v != "headed":
				return api.Errorf(api.Invalid, "matrix %s: unknown mode %q: there are headless and headed", m.Name, v)
			}
		}
	}
	if !slices.ContainsFunc(m.Axes, func(a combo.Axis) bool { return a.Name == "browser" || a.Name == "engine" }) {
		return api.Errorf(api.Invalid, "matrix %s has neither an axis browser nor an axis engine: every combination needs one of them", m.Name)
	}
	return nil
}

// relayed checks that the relay that a request names is open and leads to its site.
func (desk *Desk) relayed(project, name, base string) error {
	if name == "" {
		return nil
	}
	texts, err := desk.relays.Places(project, name)
	if err != nil {
		return err
	}
	at, err := place.Of(base)
	if err != nil {
		return nil // scripts name their sites themselves
	}
	if places, err := place.All(texts); err != nil || !place.Holds(places, at) {
		return api.Errorf(api.Invalid, "relay %s does not lead to %s: %s is not on its list, which is %s", name, base, at,
			strings.Join(texts, ", "))
	}
	return nil
}
