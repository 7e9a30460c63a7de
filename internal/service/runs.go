package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/project"
	"parallelpane/internal/results"
	"parallelpane/internal/script"
	"parallelpane/internal/store"
)

// HasBundle reports whether a bundle is here. It then stays for some time.
func (s *Service) HasBundle(hash string) bool { return s.blobs.Renew(hash) }

// PutBundle takes a bundle after checking its hash and its contents.
func (s *Service) PutBundle(hash string, r io.Reader) error {
	if !blobs.ValidHash(hash) {
		return api.Errorf(api.Invalid, "%q is not a SHA-256 in hexadecimal", hash)
	}
	if s.blobs.Renew(hash) {
		return nil
	}
	if full := s.Storage().Full; full != "" {
		return api.Errorf(api.NoRoom, "%s", full)
	}
	if err := s.put(hash, project.MaxBundleBytes, r); err != nil {
		return err
	}
	if _, err := s.openBundle(hash); err != nil {
		return errors.Join(err, s.blobs.Remove(hash))
	}
	return nil
}

// put stores contents and puts the refusals of the blob store in words.
func (s *Service) put(hash string, limit int64, r io.Reader) error {
	_, err := s.blobs.Put(hash, limit, r)
	large := &blobs.TooLarge{}
	switch {
	case errors.Is(err, blobs.ErrHash):
		return api.Errorf(api.Invalid, "refused: the bytes received do not have the hash %s", hash)
	case errors.As(err, &large):
		return api.Errorf(api.TooLarge, "refused: %v", large)
	}
	return err
}

// Bundle opens a bundle's bytes.
func (s *Service) Bundle(hash string) (*os.File, error) {
	f, err := s.blobs.Get(hash)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, api.Errorf(api.NotFound, "there is no bundle %s", hash)
	}
	return f, err
}

func (s *Service) openBundle(hash string) (*project.Archive, error) {
	f, err := s.Bundle(hash)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	a, err := project.OpenBundle(f)
	if refused, ok := errors.AsType[*project.BundleError](err); ok {
		return nil, api.Errorf(api.Invalid, "%v", refused)
	}
	return a, err
}

// source reads a file of a bundle.
func (s *Service) source(bundle, file string) (string, error) {
	archive, err := s.openBundle(bundle)
	if err != nil {
		return "", err
	}
	raw, err := archive.Read(file)
	return string(raw), err
}

// defaultTestMS is how long a test may take, in milliseconds, when nobody says.
const defaultTestMS = 120_000

// order is a request worked out: what would run where.
type order struct {
	req     api.RunRequest
	project *project.Project
	suite   project.Suite
	env     project.Environment
	scripts []*script.Script
	plan    combo.Plan
	turn    int
	dealt   [][]bool // by pane and test
	devices []device.Profile
	seconds [][]float64 // estimates
	past    *past
	secrets map[string]string
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
func (s *Service) unpack(req api.RunRequest) (*order, combo.Matrix, error) {
	fail := func(err error) (*order, combo.Matrix, error) { return nil, combo.Matrix{}, err }
	if err := req.Check(); err != nil {
		return fail(err)
	}
	if !s.blobs.Has(req.Bundle) {
		return fail(api.Errorf(api.Invalid, "bundle %q is not here: send it first with PUT /api/v1/bundles/…", req.Bundle))
	}
	archive, err := s.openBundle(req.Bundle)
	if err != nil {
		return fail(err)
	}
	o := &order{}
	if o.project, o.suite, o.scripts, err = loadSuite(archive, req.Suite); err != nil {
		return fail(err)
	}
	matrix, err := o.project.Matrix(req.Matrix)
	if err != nil {
		return fail(api.Errorf(api.Invalid, "%v", err))
	}
	if o.env, err = environment(o.project, req); err != nil {
		return fail(err)
	}
	if o.scripts, err = choose(o.scripts, req); err != nil {
		return fail(err)
	}
	settled, err := s.ProjectSettings(context.Background(), o.project.Name)
	if err != nil {
		return fail(err)
	}
	o.record = record.Over(req.Record, settled.Record, record.Default(false))
	o.secrets, req.Secrets = req.Secrets, nil // they are kept apart from the request
	req.Suite, req.Matrix, req.Environment = o.suite.Name, matrix.Name, o.env.Name
	o.req = req
	return o, matrix, nil
}

// order works a request out against the fleet as it is now.
func (s *Service) order(ctx context.Context, req api.RunRequest) (*order, error) {
	o, matrix, err := s.unpack(req)
	if err != nil {
		return nil, err
	}
	lab := s.lab(o.project.Name)
	if err := knownBrowsers(lab, matrix); err != nil {
		return nil, err
	}
	if o.plan, err = matrix.Plan(lab); err != nil {
		return nil, api.Errorf(api.Invalid, "%v", err)
	}
	if n := len(o.plan.Combinations) * len(o.scripts); n > api.MaxCells {
		return nil, api.Errorf(api.Invalid, "%d tests in %d combinations are %d; a run holds at most %d: choose fewer with --tag or --test, or a cover such as pairs",
			len(o.scripts), len(o.plan.Combinations), n, api.MaxCells)
	}
	for _, c := range o.plan.Combinations {
		d, err := o.project.Profile(c.Values)
		if err != nil {
			return nil, api.Errorf(api.Invalid, "matrix %s: %v", matrix.Name, err)
		}
		o.devices = append(o.devices, d)
	}
	if err := s.dealOut(ctx, o); err != nil {
		return nil, err
	}
	past, err := s.past(ctx, o.project.Name, o.suite.Name)
	if err != nil {
		return nil, err
	}
	o.past = past
	for _, c := range o.plan.Combinations {
		row := make([]float64, len(o.scripts))
		for j, sc := range o.scripts {
			row[j] = past.book.Seconds(sc.Name, c.Key, c.Values["browser"])
		}
		o.seconds = append(o.seconds, row)
	}
	return o, nil
}

// lab is the fleet as a project's plans see it.
func (s *Service) lab(project string) fleet.Lab {
	s.mu.Lock()
	defer s.mu.Unlock()
	return fleet.Lab{Project: project, Members: s.machine.Members()}
}

// dealOut says which pane gets which test.
func (s *Service) dealOut(ctx context.Context, o *order) error {
	panes, tests := len(o.plan.Combinations), len(o.scripts)
	o.dealt = make([][]bool, panes)
	for i := range o.dealt {
		o.dealt[i] = slices.Repeat([]bool{o.req.Deal != api.Spread}, tests)
	}
	if o.req.Deal != api.Spread {
		return nil
	}
	turn, err := s.store.Spreads(ctx, o.project.Name, o.suite.Name, o.req.Matrix)
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

// estimate fills in the estimates of a run taken up from records.
func (s *Service) estimate(ctx context.Context, r *liveRun) error {
	past, err := s.past(ctx, r.view.Project, r.view.Suite)
	if err != nil {
		return err
	}
	for _, p := range r.view.Panes {
		row := make([]float64, len(r.view.Tests))
		for j, t := range r.view.Tests {
			row[j] = past.book.Seconds(t.Name, p.Key, p.Values["browser"])
		}
		r.seconds = append(r.seconds, row)
	}
	return nil
}

// profilesOf finds the devices of a run taken up from records, and the
// attribute that marks elements.
func (s *Service) profilesOf(v api.Run) (out []device.Profile, marker string, err error) {
	archive, err := s.openBundle(v.Request.Bundle)
	if err != nil {
		return nil, "", err
	}
	p, err := project.Load(archive)
	if err != nil {
		return nil, "", err
	}
	for _, pane := range v.Panes {
		d, err := p.Profile(pane.Values)
		if err != nil {
			return nil, "", err
		}
		out = append(out, d)
	}
	return out, p.Marker, nil
}

// Submit starts a run.
func (s *Service) Submit(ctx context.Context, who api.Who, req api.RunRequest) (api.Run, error) {
	return s.submit(ctx, who, req, origin{})
}

func (s *Service) submit(ctx context.Context, who api.Who, req api.RunRequest, from origin) (api.Run, error) {
	if req.Deal == api.Spread { // whose turn it is follows from the runs before, those that are just being written too
		s.spreading.Lock()
		defer s.spreading.Unlock()
		if err := s.store.Sync(); err != nil {
			return api.Run{}, err
		}
	}
	o, err := s.order(ctx, req)
	if err != nil {
		return api.Run{}, err
	}
	o.origin = from
	return s.start(who, o)
}

// start makes a run of an order.
func (s *Service) start(who api.Who, o *order) (api.Run, error) {
	sealed, err := s.seal.Close(o.secrets)
	if err != nil {
		return api.Run{}, err
	}
	s.mu.Lock()
	s.number++
	row, panes, tests := o.records(s.number, who, store.Millis(s.now()))
	row.Secrets = sealed
	view, err := results.RunOf(row, store.Whole{Panes: panes, Tests: tests})
	if err != nil {
		s.mu.Unlock()
		return api.Run{}, err
	}
	r := &liveRun{view: view, secrets: o.secrets, policy: o.record, vars: o.env.Vars, files: o.req.Bundle, seconds: o.seconds, profiles: o.devices, marker: o.project.Marker}
	s.live[row.ID] = r
	batch := store.AddRun(row, panes, tests)
	if o.mark != nil {
		batch = append(batch, o.mark(row.Number))
	}
	e := s.applyLocked(s.machine.Submit(s.now(), workOf(r)), batch...)
	e.events = append([]api.Event{{Type: "run", Run: r.head()}}, e.events...)
	s.mu.Unlock()
	if err := s.carryOut(e); err != nil {
		return api.Run{}, err
	}
	s.expect()
	s.log.Info("run submitted", "run", row.Number, "suite", row.Suite, "matrix", row.Matrix, "panes", len(panes), "tests", len(tests), "by", row.By)
	s.mu.Lock()
	defer s.mu.Unlock()
	return r.copy(), nil
}

// records are the rows of an order's run.
func (o *order) records(number int, who api.Who, now int64) (row store.Run, panes []store.Pane, tests []store.Test) {
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
		if len(mine) < len(o.scripts) {
			p.Dealt = store.JSON(mine)
		}
		panes = append(panes, p)
	}
	for j, sc := range o.scripts {
		tests = append(tests, store.Test{Index: j, Name: sc.Name, File: sc.File, Tags: store.JSON(listed(sc.Tags)), Locks: store.JSON(listed(sc.Locks))})
	}
	p := api.RunPlan{Missing: o.plan.Missing[:min(maxMissing, len(o.plan.Missing))], Cover: o.plan.Cover, Turn: o.turn}
	p.Cover.Left += len(o.plan.Missing) - len(p.Missing)
	return store.Run{
		ID: store.NewID(), Number: number, Kind: api.ScriptKind, Project: o.project.Name, Suite: o.suite.Name, Matrix: o.req.Matrix,
		Environment: o.env.Name, Base: o.env.Base, Vars: store.JSON(o.env.Vars), Bundle: o.req.Bundle, Request: store.JSON(o.req),
		By: who.Person(), CreatedAt: now, Counts: store.JSON(verdict.Counts{verdict.Pending: cells}),
		Plan: store.JSON(p), AgainOf: o.again, PresetID: o.preset, ScheduleID: o.schedule, Spread: o.req.Deal == api.Spread,
	}, panes, tests
}

func listed(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

// Again starts a run again with the same files and combinations: all of it, or
// only the tests that did not pass.
func (s *Service) Again(ctx context.Context, who api.Who, number int, notPassed bool) (api.Run, error) {
	old, err := s.Run(ctx, number)
	if err != nil {
		return api.Run{}, err
	}
	if old.Kind == api.RemoteKind {
		return api.Run{}, api.Errorf(api.Conflict, "run %d is of sessions that somebody else's runner opened: start that runner again", number)
	}
	if old.State != api.Ended {
		return api.Run{}, api.Errorf(api.Conflict, "run %d has not ended: wait for it or cancel it", number)
	}
	o, _, err := s.unpack(old.Request)
	if err != nil {
		return api.Run{}, err
	}
	row, err := s.Row(ctx, number)
	if err != nil {
		return api.Run{}, err
	}
	if o.secrets, err = s.seal.Open(row.Secrets); err != nil {
		return api.Run{}, err
	}
	// The combinations are those of the old run, versions and all, even when the
	// matrix would come to others now.
	o.again, o.turn = number, old.Plan.Turn
	o.plan = combo.Plan{Missing: old.Plan.Missing, Cover: old.Plan.Cover}
	past, err := s.past(ctx, old.Project, old.Suite)
	if err != nil {
		return api.Run{}, err
	}
	any := false
	for i, p := range old.Panes {
		dealt, seconds := make([]bool, len(old.Tests)), make([]float64, len(old.Tests))
		wanted := false
		for j, t := range old.Tests {
			c := old.Cells[i][j]
			dealt[j] = c.State != api.Undealt && (!notPassed || (c.Verdict != verdict.Passed && c.Verdict != verdict.Flaky && c.Verdict != verdict.Unsupported))
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
	if !any {
		return api.Run{}, api.Errorf(api.Conflict, "run %d has nothing that did not pass: leave --not-passed out to run all of it again", number)
	}
	return s.start(who, o)
}

func loadSuite(files project.Files, name string) (*project.Project, project.Suite, []*script.Script, error) {
	fail := func(err error) (*project.Project, project.Suite, []*script.Script, error) {
		if ps, ok := errors.AsType[source.Problems](err); ok {
			return nil, project.Suite{}, nil, &api.Error{Kind: api.Invalid, Message: "the bundle's files have problems", Problems: ps}
		}
		return nil, project.Suite{}, nil, api.Errorf(api.Invalid, "%v", err)
	}
	p, err := project.Load(files)
	if err != nil {
		return fail(err)
	}
	suite, err := p.Suite(name)
	if err != nil {
		return fail(err)
	}
	scripts, err := p.Scripts(files, suite)
	if err != nil {
		return fail(err)
	}
	return p, suite, scripts, nil
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

// choose narrows a suite to the tags and tests asked for.
func choose(scripts []*script.Script, req api.RunRequest) ([]*script.Script, error) {
	tags, names := map[string]bool{}, map[string]bool{}
	for _, s := range scripts {
		names[s.Name] = true
		for _, t := range s.Tags {
			tags[t] = true
		}
	}
	for _, check := range []struct {
		what  string
		asked []string
		have  map[string]bool
	}{{"tag", req.Tags, tags}, {"test", req.Tests, names}} {
		for _, a := range check.asked {
			if check.have[a] {
				continue
			}
			all := slices.Sorted(maps.Keys(check.have))
			hint := ""
			if near := script.Nearest(a, all); near != "" {
				hint = fmt.Sprintf(" (did you mean %q?)", near)
			}
			return nil, api.Errorf(api.Invalid, "unknown %s %q%s: the suite has %s", check.what, a, hint, strings.Join(all, ", "))
		}
	}
	return slices.DeleteFunc(slices.Clone(scripts), func(s *script.Script) bool {
		return (len(req.Tags) > 0 && !slices.ContainsFunc(req.Tags, s.HasTag)) || (len(req.Tests) > 0 && !slices.Contains(req.Tests, s.Name))
	}), nil
}

// ownBrowsers are the browsers that some agent could have even if none has now.
var ownBrowsers = []string{"chromium", "firefox", "webkitgtk"}

// knownBrowsers refuses browsers that nobody has ever heard of, which are
// spelling mistakes; a known one that no agent has becomes an unsupported pane.
func knownBrowsers(lab fleet.Lab, m combo.Matrix) error {
	known := slices.Clone(ownBrowsers)
	for _, a := range lab.Members {
		for _, b := range a.Facts["browser"] {
			if !slices.Contains(known, b) {
				known = append(known, b)
			}
		}
	}
	axes := slices.Clone(m.Axes)
	for _, values := range m.Add {
		if values["browser"] == "" && values["engine"] == "" {
			return api.Errorf(api.Invalid, "matrix %s: an added combination has no browser and no engine: every combination needs one of them", m.Name)
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
				if near := script.Nearest(v, known); near != "" {
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

// Cancel ends a run before its time.
func (s *Service) Cancel(ctx context.Context, who api.Who, number int) (api.Run, error) {
	row, err := s.Row(ctx, number)
	if err != nil {
		return api.Run{}, err
	}
	s.mu.Lock()
	r := s.live[row.ID]
	if r == nil {
		s.mu.Unlock()
		return api.Run{}, api.Errorf(api.Conflict, "run %d has ended already: nothing to cancel", number)
	}
	why := "cancelled by " + who.Person()
	r.view.Why = why
	if r.view.Kind == api.RemoteKind {
		return s.cancelSessions(r, why)
	}
	e := s.applyLocked(s.machine.Cancel(s.now(), row.ID, why), store.ExplainRun(row.Number, why))
	out := r.copy()
	s.mu.Unlock()
	s.log.Info("run cancelled", "run", number, "by", who.Name)
	return out, s.carryOut(e)
}
