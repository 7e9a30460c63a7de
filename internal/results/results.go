// Package results reads what was: runs and their walls, tests with their attempts,
// timelines, files. It never takes the lab's lock: of a run that goes on it asks the
// lab for a copy.
package results

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// Lab tells of runs that go on.
type Lab interface {
	// Live is a run that goes on, as it stands.
	Live(id string) (api.Run, bool)
	// Glance is what a list shows of it.
	Glance(id string) (api.RunSummary, bool)
	// Members are the agents of the fleet.
	Members() []fleet.Member
}

// Results reads the records.
type Results struct {
	store  *store.Store
	blobs  *blobs.Dir
	lab    Lab
	source func(bundle, file string) (string, error)
	few    few
}

// New reads from a store and its files; source finds a file of a bundle.
func New(st *store.Store, bl *blobs.Dir, lab Lab, source func(bundle, file string) (string, error)) *Results {
	return &Results{store: st, blobs: bl, lab: lab, source: source}
}

// Runs lists runs, newest first.
func (r *Results) Runs(ctx context.Context, f api.RunFilter) ([]api.RunSummary, error) {
	f.Limit = f.Size()
	if f.Verdict != "" {
		if _, err := verdict.Parse(f.Verdict); err != nil {
			return nil, api.Errorf(api.Invalid, "%v", err)
		}
	}
	rows, err := r.store.Runs(ctx, store.RunFilter(f))
	if err != nil {
		return nil, err
	}
	out := make([]api.RunSummary, len(rows))
	for i, row := range rows {
		var live bool
		if out[i], live = r.lab.Glance(row.ID); !live {
			out[i] = walls.SummaryOf(row)
		}
	}
	return out, nil
}

// Row reads a run's record. The end of a run that is not live is on it, even if
// it was only just queued.
func (r *Results) Row(ctx context.Context, number int) (store.Run, error) {
	row, err := r.store.RunByNumber(ctx, number)
	if err == nil && row.EndedAt == 0 {
		if _, live := r.lab.Glance(row.ID); !live {
			if err := r.store.Sync(); err != nil {
				return row, err
			}
			row, err = r.store.RunByNumber(ctx, number)
		}
	}
	return row, walls.NotFound(err, "there is no run %d", number)
}

// TestOfRun returns one test of a run in every pane.
func (r *Results) TestOfRun(ctx context.Context, number, test int) (api.TestResult, error) {
	run, err := r.Run(ctx, number)
	if err != nil {
		return api.TestResult{}, err
	}
	if test < 0 || test >= len(run.Tests) {
		return api.TestResult{}, api.Errorf(api.NotFound, "run %d has no test %d: it has %d tests, counted from 0", number, test, len(run.Tests))
	}
	out := api.TestResult{Run: run.RunSummary, Test: run.Tests[test], Tests: run.Tests, Blocks: map[string]string{}}
	if run.Kind == api.ScriptKind {
		if out.Source, err = r.source(run.Request.Bundle, out.Test.File); err != nil {
			return out, err
		}
	}
	attempts, err := r.store.AttemptsOf(ctx, run.Number, test)
	if err != nil {
		return out, err
	}
	ids := make([]string, len(attempts))
	for i, a := range attempts {
		ids[i] = a.ID
	}
	files, err := r.store.FilesOf(ctx, ids)
	if err != nil {
		return out, err
	}
	for i, p := range run.Panes {
		out.Results = append(out.Results, api.PaneAttempts{Pane: p, Cell: run.Cells[i][test], Attempts: []api.Attempt{}})
	}
	for _, a := range attempts {
		v := api.Attempt{ID: a.ID, Number: a.Number, Agent: a.Agent, Verdict: verdict.Verdict(a.Verdict), Message: a.Message,
			StartedAt: api.At(a.StartedAt), TookMS: a.TookMS, Files: []attempt.File{}, Sessions: walls.SessionsOf(a)}
		if v.Detail, err = walls.Unpack(a.Detail); err != nil {
			return out, fmt.Errorf("records of attempt %s: %w", a.ID, err)
		}
		for _, f := range files {
			if f.Attempt == a.ID {
				v.Files = append(v.Files, walls.FileOf(f))
			}
		}
		out.Results[a.Pane].Attempts = append(out.Results[a.Pane].Attempts, v)
		if run.Kind == api.ScriptKind {
			if err := r.blocks(&out, run.Request.Bundle, v.Detail.Steps); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

// blocks adds the files that steps stand in besides the script.
func (r *Results) blocks(to *api.TestResult, bundle string, steps []attempt.Step) error {
	for _, s := range steps {
		if _, known := to.Blocks[s.At.File]; known || s.At.File == to.Test.File || s.At.File == "" || len(to.Blocks) >= maxBlockFiles {
			continue
		}
		text, err := r.source(bundle, s.At.File)
		if err != nil {
			return err
		}
		to.Blocks[s.At.File] = text
	}
	return nil
}

// maxBlockFiles bounds the files that are sent along with a script.
const maxBlockFiles = 20

// FilesOfRun lists the files that a run kept; kind "" means every kind.
func (r *Results) FilesOfRun(ctx context.Context, number int, kind string) ([]api.RunFile, error) {
	run, err := r.Run(ctx, number)
	if err != nil {
		return nil, err
	}
	rows, err := r.store.FilesOfRun(ctx, run.Number, kind)
	if err != nil {
		return nil, err
	}
	out := make([]api.RunFile, len(rows))
	for i, f := range rows {
		out[i] = api.RunFile{Attempt: f.Attempt, Number: f.Number, Pane: f.Pane, Label: run.Panes[f.Pane].Label,
			Test: run.Tests[f.Test].Name, File: walls.FileOf(f.File)}
	}
	return out, nil
}

// PlaceOfAttempt is the run of an attempt, and the place of its test in it.
func (r *Results) PlaceOfAttempt(ctx context.Context, id string) (run, test int, err error) {
	a, err := r.store.AttemptByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return 0, 0, api.Errorf(api.NotFound, "there is no attempt %.80s", id)
	}
	return a.Run, a.Test, err
}

// ProjectOfAttempt says to which project an attempt belongs.
func (r *Results) ProjectOfAttempt(ctx context.Context, id string) (string, error) {
	project, err := r.store.ProjectOfAttempt(ctx, id)
	return project, walls.NotFound(err, "there is no attempt %.80s", id)
}

// OpenFile opens a file of an attempt.
func (r *Results) OpenFile(ctx context.Context, id, name string) (attempt.File, *os.File, error) {
	row, err := r.store.FileOf(ctx, id, name)
	if err != nil {
		plain, _ := url.PathUnescape(name)
		return attempt.File{}, nil, walls.NotFound(err, "attempt %s has no file %q", id, plain)
	}
	f, err := r.blobs.Get(row.Hash)
	if errors.Is(err, fs.ErrNotExist) {
		return attempt.File{}, nil, api.Errorf(api.NotFound, "the file %q is no longer kept", name)
	}
	return walls.FileOf(row), f, err
}
