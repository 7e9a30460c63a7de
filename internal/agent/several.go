package agent

import (
	"context"
	"fmt"
	"slices"

	"parallelpane/internal/agent/work"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/link"
	"parallelpane/internal/project"
)

// work carries a slice out in the way of its suite; of one that is made of others, the
// tests of each in its own way, one after the other.
func (a *Agent) work(ctx context.Context, s link.Slice) {
	if !s.Several {
		a.worker(s.Command).Work(ctx, s)
		return
	}
	dir, done, err := a.floor.Bundles.Get(ctx, s.Bundle)
	defer done()
	if err != nil {
		a.scripts.Work(ctx, s) // which says of each test that the bundle is not here
		return
	}
	parts, err := divide(project.Dir(dir), s)
	if err != nil { // the service read the same files
		a.Log.Error("a slice is not divided", "run", s.Run, "error", err)
		a.scripts.Work(ctx, s)
		return
	}
	for _, part := range parts {
		if ctx.Err() != nil {
			return
		}
		a.worker(part.Command).Work(ctx, part)
	}
}

func (a *Agent) worker(c *suite.Command) work.Worker {
	if c != nil {
		return a.commands
	}
	return a.scripts
}

// divide makes a slice for each part of a suite that is made of others, in the order of
// the parts. Together they have the tests of the whole.
func divide(files project.Files, s link.Slice) ([]link.Slice, error) {
	p, err := project.Load(files)
	if err != nil {
		return nil, err
	}
	of, err := p.Suite(s.Suite)
	if err != nil {
		return nil, err
	}
	cases, err := p.Cases(files, of)
	if err != nil {
		return nil, err
	}
	out := make([]link.Slice, len(of.Parts))
	for _, t := range s.Tests {
		part, known := of.Part(cases, t.Name)
		if !known {
			return nil, fmt.Errorf("the suite %s has no test %q", s.Suite, t.Name)
		}
		i := slices.IndexFunc(of.Parts, func(o project.Suite) bool { return o.Name == part.Name })
		out[i].Tests = append(out[i].Tests, t)
	}
	for i, part := range of.Parts {
		mine := s
		mine.Several, mine.Suite, mine.Command, mine.Tests = false, part.Name, part.Command, out[i].Tests
		out[i] = mine
	}
	return slices.DeleteFunc(out, func(o link.Slice) bool { return len(o.Tests) == 0 }), nil
}
