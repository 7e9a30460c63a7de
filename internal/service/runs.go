package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"parallelpane/internal/blobs"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/project"
	"parallelpane/internal/script"
	"parallelpane/internal/store"
)

// HasBundle reports whether a bundle is here.
func (s *Service) HasBundle(hash string) bool { return s.blobs.Has(hash) }

// PutBundle takes a bundle after checking its hash and its contents.
func (s *Service) PutBundle(hash string, r io.Reader) error {
	if !blobs.ValidHash(hash) {
		return errorf(Invalid, "%q is not a SHA-256 in hexadecimal", hash)
	}
	if s.blobs.Has(hash) {
		return nil
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
		return errorf(Invalid, "refused: the bytes received do not have the hash %s", hash)
	case errors.As(err, &large):
		return errorf(TooLarge, "refused: %v", large)
	}
	return err
}

// Bundle opens a bundle's bytes.
func (s *Service) Bundle(hash string) (*os.File, error) {
	f, err := s.blobs.Get(hash)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errorf(NotFound, "there is no bundle %s", hash)
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
		return nil, errorf(Invalid, "%v", refused)
	}
	return a, err
}

// Limits of one run.
const (
	MaxCells      = 200_000 // tests × combinations
	defaultTestMS = 120_000
)

// Submit starts a run.
func (s *Service) Submit(ctx context.Context, who Who, req RunRequest) (Run, error) {
	if !s.blobs.Has(req.Bundle) {
		return Run{}, errorf(Invalid, "bundle %q is not here: send it first with PUT /api/v1/bundles/…", req.Bundle)
	}
	archive, err := s.openBundle(req.Bundle)
	if err != nil {
		return Run{}, err
	}
	p, suite, scripts, err := loadSuite(archive, req.Suite)
	if err != nil {
		return Run{}, err
	}
	matrix, err := p.Matrix(req.Matrix)
	if err != nil {
		return Run{}, errorf(Invalid, "%v", err)
	}
	env, err := environment(p, req)
	if err != nil {
		return Run{}, err
	}
	if scripts, err = choose(scripts, req); err != nil {
		return Run{}, err
	}
	combos, err := matrix.Product()
	if err != nil {
		return Run{}, errorf(Invalid, "%v", err)
	}
	if n := len(combos) * len(scripts); n > MaxCells {
		return Run{}, errorf(Invalid, "%d tests in %d combinations are %d; a run holds at most %d: choose fewer with --tag or --test", len(scripts), len(combos), n, MaxCells)
	}
	if req.Retries < 0 || req.Retries > 10 || req.Limit < 0 || req.TestLimitS < 0 || req.QueueLimitS < 0 {
		return Run{}, errorf(Invalid, "retries must be 0 to 10; limit, test_limit_s and queue_limit_s 0 or more")
	}
	req.Suite, req.Matrix, req.Environment = suite.Name, matrix.Name, env.Name

	s.mu.Lock()
	if err := s.knownBrowsersLocked(matrix, combos); err != nil {
		s.mu.Unlock()
		return Run{}, err
	}
	s.number++
	now := store.Millis(s.now())
	row := store.Run{
		ID: newID(), Number: s.number, Project: p.Name, Suite: suite.Name, Matrix: matrix.Name, Environment: env.Name, Base: env.Base,
		Vars: store.JSON(env.Vars), Bundle: req.Bundle, Request: store.JSON(req), By: strings.TrimSuffix(who.Name, consoleSuffix), CreatedAt: now,
		Counts: store.JSON(verdict.Counts{verdict.Pending: len(combos) * len(scripts)}),
	}
	whole := store.Whole{}
	for i, c := range combos {
		whole.Panes = append(whole.Panes, store.Pane{Index: i, Key: c.Key, Label: c.Label, Values: store.JSON(c.Values),
			Needs: store.JSON(fleet.NeedsOf(c.Values)), Info: "{}"})
		for j := range scripts {
			whole.Results = append(whole.Results, store.Result{Pane: i, Test: j})
		}
	}
	for j, sc := range scripts {
		tags := sc.Tags
		if tags == nil {
			tags = []string{}
		}
		whole.Tests = append(whole.Tests, store.Test{Index: j, Name: sc.Name, File: sc.File, Tags: store.JSON(tags)})
	}
	view, err := runOf(row, whole)
	if err != nil {
		s.mu.Unlock()
		return Run{}, err
	}
	r := &liveRun{view: view, vars: env.Vars, files: req.Bundle}
	s.live[row.ID] = r
	e := s.applyLocked(s.machine.Submit(s.now(), workOf(view)), store.AddRun(row, whole.Panes, whole.Tests)...)
	out := r.copy()
	e.events = append([]Event{{Type: "run", Run: r.summary()}}, e.events...)
	s.mu.Unlock()
	s.log.Info("run submitted", "run", row.Number, "suite", row.Suite, "matrix", row.Matrix, "panes", len(combos), "tests", len(scripts), "by", row.By)
	return out, s.carryOut(e)
}

func loadSuite(files project.Files, name string) (*project.Project, project.Suite, []*script.Script, error) {
	fail := func(err error) (*project.Project, project.Suite, []*script.Script, error) {
		if ps, ok := errors.AsType[script.Problems](err); ok {
			return nil, project.Suite{}, nil, &Error{Kind: Invalid, Message: "the bundle's files have problems", Problems: ps}
		}
		return nil, project.Suite{}, nil, errorf(Invalid, "%v", err)
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
func environment(p *project.Project, req RunRequest) (project.Environment, error) {
	env, err := p.Environment(req.Environment)
	if err != nil {
		return env, errorf(Invalid, "%v", err)
	}
	vars := maps.Clone(env.Vars)
	if vars == nil {
		vars = map[string]string{}
	}
	maps.Copy(vars, req.Vars)
	env.Vars = vars
	if req.Base != "" {
		if err := project.CheckBase(req.Base); err != nil {
			return env, errorf(Invalid, "base: %v", err)
		}
		env.Base = req.Base
	}
	return env, nil
}

// choose narrows a suite to the tags and tests asked for.
func choose(scripts []*script.Script, req RunRequest) ([]*script.Script, error) {
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
			return nil, errorf(Invalid, "unknown %s %q%s: the suite has %s", check.what, a, hint, strings.Join(all, ", "))
		}
	}
	return slices.DeleteFunc(slices.Clone(scripts), func(s *script.Script) bool {
		return (len(req.Tags) > 0 && !slices.ContainsFunc(req.Tags, s.HasTag)) || (len(req.Tests) > 0 && !slices.Contains(req.Tests, s.Name))
	}), nil
}

// ownBrowsers are the browsers that some agent could have even if none has now.
var ownBrowsers = []string{"chromium", "firefox", "webkit"}

// knownBrowsersLocked refuses browsers that nobody has ever heard of, which are
// spelling mistakes; a known one that no agent has becomes an unsupported pane.
func (s *Service) knownBrowsersLocked(m combo.Matrix, combos []combo.Combination) error {
	known := slices.Clone(ownBrowsers)
	for _, a := range s.agents {
		for _, b := range a.machine.Browsers {
			if !slices.Contains(known, b.Name) {
				known = append(known, b.Name)
			}
		}
	}
	for _, c := range combos {
		b, ok := c.Values["browser"]
		if !ok {
			return errorf(Invalid, "matrix %s has no axis browser: every combination needs one", m.Name)
		}
		if !slices.Contains(known, b) {
			hint := ""
			if near := script.Nearest(b, known); near != "" {
				hint = fmt.Sprintf(" (did you mean %q?)", near)
			}
			return errorf(Invalid, "matrix %s: unknown browser %q%s: there are %s", m.Name, b, hint, strings.Join(known, ", "))
		}
		if mode := c.Values["mode"]; mode != "" && mode != "headless" && mode != "headed" {
			return errorf(Invalid, "matrix %s: unknown mode %q: there are headless and headed", m.Name, mode)
		}
	}
	return nil
}

// Runs lists runs, newest first.
func (s *Service) Runs(ctx context.Context, f store.RunFilter) ([]RunSummary, error) {
	if f.Limit <= 0 || f.Limit > 200 {
		f.Limit = 50
	}
	if f.Verdict != "" {
		if _, err := verdict.Parse(f.Verdict); err != nil {
			return nil, errorf(Invalid, "%v", err)
		}
	}
	rows, err := s.store.Runs(ctx, f)
	if err != nil {
		return nil, err
	}
	out := make([]RunSummary, len(rows))
	index := map[string]*RunSummary{}
	var ended []string
	s.mu.Lock()
	for i, row := range rows {
		if r := s.live[row.ID]; r != nil {
			out[i] = *r.summary()
			continue
		}
		out[i] = summaryOf(row)
		index[row.ID] = &out[i]
		ended = append(ended, row.ID)
	}
	s.mu.Unlock()
	counts, err := s.store.PaneCounts(ctx, ended)
	if err != nil {
		return nil, err
	}
	for len(counts) > 0 { // rows of one pane stand together
		head, c := counts[0], verdict.Counts{}
		for len(counts) > 0 && counts[0].RunID == head.RunID && counts[0].Index == head.Index {
			c[verdict.Verdict(counts[0].Verdict)] = counts[0].Count
			counts = counts[1:]
		}
		r := index[head.RunID]
		r.Panes = append(r.Panes, PaneGlance{head.Label, Ended, c.Over()})
	}
	return out, nil
}

func (s *Service) row(ctx context.Context, number int) (store.Run, error) {
	row, err := s.store.RunByNumber(ctx, number)
	return row, notFound(err, "there is no run %d", number)
}

// Run returns a whole run.
func (s *Service) Run(ctx context.Context, number int) (Run, error) {
	row, err := s.row(ctx, number)
	if err != nil {
		return Run{}, err
	}
	s.mu.Lock()
	if r := s.live[row.ID]; r != nil {
		defer s.mu.Unlock()
		return r.copy(), nil
	}
	s.mu.Unlock()
	w, err := s.store.WholeRun(ctx, row.ID)
	if err != nil {
		return Run{}, err
	}
	return runOf(row, w)
}

// Cancel ends a run before its time.
func (s *Service) Cancel(ctx context.Context, who Who, number int) (Run, error) {
	row, err := s.row(ctx, number)
	if err != nil {
		return Run{}, err
	}
	s.mu.Lock()
	r := s.live[row.ID]
	if r == nil {
		s.mu.Unlock()
		return Run{}, errorf(Conflict, "run %d has ended already: nothing to cancel", number)
	}
	why := "cancelled by " + strings.TrimSuffix(who.Name, consoleSuffix)
	r.view.Why = why
	e := s.applyLocked(s.machine.Cancel(s.now(), row.ID, why), store.ExplainRun(row.ID, why))
	out := r.copy()
	s.mu.Unlock()
	s.log.Info("run cancelled", "run", number, "by", who.Name)
	return out, s.carryOut(e)
}

// TestOfRun returns one test of a run in every pane.
func (s *Service) TestOfRun(ctx context.Context, number, test int) (TestResult, error) {
	run, err := s.Run(ctx, number)
	if err != nil {
		return TestResult{}, err
	}
	if test < 0 || test >= len(run.Tests) {
		return TestResult{}, errorf(NotFound, "run %d has no test %d: it has %d tests, counted from 0", number, test, len(run.Tests))
	}
	out := TestResult{Run: run.RunSummary, Test: run.Tests[test], Tests: run.Tests}
	archive, err := s.openBundle(run.Request.Bundle)
	if err != nil {
		return out, err
	}
	src, err := archive.Read(out.Test.File)
	if err != nil {
		return out, err
	}
	out.Source = string(src)
	attempts, err := s.store.AttemptsOf(ctx, run.ID, test)
	if err != nil {
		return out, err
	}
	ids := make([]string, len(attempts))
	for i, a := range attempts {
		ids[i] = a.ID
	}
	files, err := s.store.FilesOf(ctx, ids)
	if err != nil {
		return out, err
	}
	for i, p := range run.Panes {
		out.Results = append(out.Results, PaneAttempts{Pane: p, Cell: run.Cells[i][test], Attempts: []Attempt{}})
	}
	for _, a := range attempts {
		v := Attempt{ID: a.ID, Number: a.Number, Agent: a.Agent, Verdict: verdict.Verdict(a.Verdict), Message: a.Message,
			StartedAt: at(a.StartedAt), TookMS: a.TookMS, Files: []link.File{}}
		if err := json.Unmarshal([]byte(a.Detail), &v.Detail); err != nil {
			return out, fmt.Errorf("records of attempt %s: %w", a.ID, err)
		}
		for _, f := range files {
			if f.AttemptID == a.ID {
				v.Files = append(v.Files, linkFile(f))
			}
		}
		out.Results[a.Pane].Attempts = append(out.Results[a.Pane].Attempts, v)
	}
	return out, nil
}

func linkFile(f store.File) link.File {
	return link.File{Name: f.Name, Kind: f.Kind, Media: f.Media, Hash: f.Hash, Size: f.Size}
}

// FilesOfRun lists the files that a run kept; kind "" means every kind.
func (s *Service) FilesOfRun(ctx context.Context, number int, kind string) ([]RunFile, error) {
	run, err := s.Run(ctx, number)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.FilesOfRun(ctx, run.ID, kind)
	if err != nil {
		return nil, err
	}
	out := make([]RunFile, len(rows))
	for i, f := range rows {
		out[i] = RunFile{Attempt: f.AttemptID, Number: f.Number, Pane: f.Pane, Label: run.Panes[f.Pane].Label, Test: run.Tests[f.Test].Name, File: linkFile(f.File)}
	}
	return out, nil
}

// OpenFile opens a file of an attempt.
func (s *Service) OpenFile(ctx context.Context, attempt, name string) (link.File, *os.File, error) {
	row, err := s.store.FileOf(ctx, attempt, name)
	if err != nil {
		plain, _ := url.PathUnescape(name)
		return link.File{}, nil, notFound(err, "attempt %s has no file %q", attempt, plain)
	}
	f, err := s.blobs.Get(row.Hash)
	if errors.Is(err, fs.ErrNotExist) {
		return link.File{}, nil, errorf(NotFound, "the file %q is no longer kept", name)
	}
	return linkFile(row), f, err
}
