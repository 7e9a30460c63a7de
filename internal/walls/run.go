// Package walls says in the words of the API what the records hold of runs, their
// cells and their attempts: for those who read what was and for the lab, which goes
// on with it. It reads and writes nothing.
package walls

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// SummaryOf is what a list shows of a run on record.
func SummaryOf(row store.Run) api.RunSummary {
	s := api.RunSummary{
		Number: row.Number, ID: row.ID, Project: row.Project, Suite: row.Suite, Matrix: row.Matrix, Environment: row.Environment,
		By: row.By, Kind: row.Kind, AgainOf: row.AgainOf, State: api.Queued, Verdict: verdict.Verdict(row.Verdict),
		Why: row.Why, Counts: verdict.Counts{},
		CreatedAt: api.At(row.CreatedAt), StartedAt: api.At(row.StartedAt), EndedAt: api.At(row.EndedAt), Panes: []api.PaneGlance{},
	}
	_ = json.Unmarshal([]byte(row.Counts), &s.Counts) // written by the service itself, as the next is
	_ = json.Unmarshal([]byte(row.Glances), &s.Panes)
	switch {
	case row.EndedAt > 0:
		s.State = api.Ended
	case row.StartedAt > 0:
		s.State = api.Running
	}
	return s
}

// Tests are the rows of a run's first cases.
func Tests(cases []suite.Case) []store.Test {
	out := make([]store.Test, len(cases))
	for i, c := range cases {
		out[i] = TestOf(i, c)
	}
	return out
}

// TestOf is the row of a case.
func TestOf(index int, c suite.Case) store.Test {
	return store.Test{Index: index, Name: c.Name, File: c.File, Tags: store.List(c.Tags), Locks: store.List(c.Locks)}
}

// PaneOf is a pane of which nothing is done yet, from its records.
func PaneOf(p store.Pane) (api.Pane, error) {
	pane := api.Pane{Index: p.Index, Key: p.Key, Label: p.Label, State: api.Queued, Counts: verdict.Counts{}, Agents: []string{}}
	for into, src := range map[any]string{&pane.Values: p.Values, &pane.Needs: p.Needs, &pane.Info: cmp.Or(p.Info, "{}")} {
		if err := json.Unmarshal([]byte(src), into); err != nil {
			return pane, err
		}
	}
	return pane, nil
}

// RunOf builds a run from its records.
func RunOf(row store.Run, w store.Whole) (api.Run, error) {
	v := api.Run{RunSummary: SummaryOf(row), Base: row.Base, Panes: []api.Pane{}, Tests: []api.Test{}}
	if err := json.Unmarshal([]byte(row.Request), &v.Request); err != nil {
		return v, fmt.Errorf("records of run %d: %w", row.Number, err)
	}
	if err := json.Unmarshal([]byte(row.Plan), &v.Plan); err != nil {
		return v, fmt.Errorf("records of run %d: %w", row.Number, err)
	}
	for _, t := range w.Tests {
		test := api.Test{Index: t.Index, Name: t.Name, File: t.File}
		for into, src := range map[any]string{&test.Tags: t.Tags, &test.Locks: t.Locks} {
			if err := json.Unmarshal([]byte(src), into); err != nil {
				return v, fmt.Errorf("records of run %d: %w", row.Number, err)
			}
		}
		v.Tests = append(v.Tests, test)
	}
	for _, p := range w.Panes {
		pane, err := PaneOf(p)
		if err != nil {
			return v, fmt.Errorf("records of run %d: %w", row.Number, err)
		}
		v.Panes = append(v.Panes, pane)
		cells, err := dealtCells(p.Dealt, len(w.Tests))
		if err != nil {
			return v, fmt.Errorf("records of run %d: %w", row.Number, err)
		}
		v.Cells = append(v.Cells, cells)
	}
	for _, r := range w.Cells {
		c := &v.Cells[r.Pane][r.Test]
		c.State, c.Verdict, c.Why = api.Queued, verdict.Verdict(r.Verdict), r.Why
		if c.Verdict != verdict.Pending {
			c.State = api.Ended
		}
	}
	v.Counts = verdict.Counts{}
	for i := range v.Cells {
		for _, c := range v.Cells[i] {
			if c.State != api.Undealt {
				v.Panes[i].Counts[c.Verdict]++
				v.Counts[c.Verdict]++
			}
		}
	}
	for _, a := range w.Attempts {
		Note(&v.Panes[a.Pane], &v.Cells[a.Pane][a.Test], a)
	}
	for i := range v.Panes {
		p := &v.Panes[i]
		switch {
		case len(p.Counts) == 0:
			p.State = api.Undealt
		case p.Counts[verdict.Pending] == 0:
			p.State, p.Verdict = api.Ended, p.Counts.Over()
		case len(p.Counts) > 1:
			p.State = api.Running
		}
	}
	v.RunSummary.Panes = Glances(&v)
	return v, nil
}

// dealtCells are the cells of a pane before anything has come of them.
func dealtCells(dealt string, tests int) ([]api.Cell, error) {
	if dealt == "" {
		return slices.Repeat([]api.Cell{{State: api.Queued}}, tests), nil
	}
	out := slices.Repeat([]api.Cell{{State: api.Undealt}}, tests)
	var mine []int
	if err := json.Unmarshal([]byte(dealt), &mine); err != nil {
		return nil, err
	}
	for _, t := range mine {
		out[t].State = api.Queued
	}
	return out, nil
}

// Glances are the panes as a list of runs shows them.
func Glances(v *api.Run) []api.PaneGlance {
	out := make([]api.PaneGlance, len(v.Panes))
	for i, p := range v.Panes {
		out[i] = api.PaneGlance{Label: p.Label, State: p.State, Verdict: p.Verdict}
	}
	return out
}

// MaxMessage bounds what a wall says of a cell, in bytes; its attempts say the
// rest.
const MaxMessage = 400

// Note books an attempt in its pane and cell.
func Note(p *api.Pane, c *api.Cell, a store.Attempt) {
	p.TookMS += a.TookMS
	if !slices.Contains(p.Agents, a.Agent) {
		p.Agents = append(p.Agents, a.Agent)
	}
	c.Attempts, c.Agent, c.TookMS = a.Number, a.Agent, a.TookMS
	if c.Session = ""; a.Sessions > 0 {
		c.Session = attempt.Session(a.ID, 1)
	}
	if a.Verdict != string(verdict.Passed) || a.Message != "" { // one that passed with an element in a locator's place says so
		c.Message = attempt.Clip(a.Message, MaxMessage)
	}
}

// SessionsOf lists the sessions of an attempt.
func SessionsOf(a store.Attempt) []string {
	out := make([]string, a.Sessions)
	for i := range out {
		out[i] = attempt.Session(a.ID, i+1)
	}
	return out
}

// FileOf is a file on record as the API says it.
func FileOf(f store.File) attempt.File {
	return attempt.File{Name: f.Name, Kind: f.Kind, Media: f.Media, Hash: f.Hash, Size: f.Size, Session: f.Session}
}

// Ready writes a wall as it is sent: as JSON, compressed with gzip.
func Ready(v api.Run) ([]byte, error) {
	api.Fill(&v)
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	zw, err := gzip.NewWriterLevel(&buf, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	if _, err := zw.Write(raw); err != nil {
		return nil, err
	}
	err = zw.Close()
	return buf.Bytes(), err
}

// NotFound turns a missing record into an Error about the thing.
func NotFound(err error, format string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return api.Errorf(api.NotFound, format, args...)
	}
	return err
}
