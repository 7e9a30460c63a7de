package project

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/script"
)

// MaxSteps bounds the steps of a suite's scripts together: of a few lines blocks may make
// many.
const MaxSteps = 200_000

// Scripts reads every script of a suite. The error is script.Problems when the
// files are at fault; all files are read before it is returned.
func (p *Project) Scripts(files Files, suite Suite) ([]*script.Script, error) {
	var out []*script.Script
	var problems source.Problems
	switch suite.Kind {
	case CommandKind:
		return nil, nil
	case SeveralKind:
		for _, part := range suite.Parts {
			some, err := p.Scripts(files, part)
			if err != nil {
				return nil, err
			}
			out = append(out, some...)
		}
		return out, nil
	}
	names, err := globAll(files, suite.Scripts)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return nil, source.Problems{{Position: suite.At, Message: fmt.Sprintf("suite %s: no file matches %s", suite.Name,
			strings.Join(suite.Scripts, ", "))}}
	}
	blocks, err := p.Library(files)
	ps, broken := errors.AsType[source.Problems](err)
	if err != nil && !broken {
		return nil, err
	}
	problems = ps
	byName, read, steps := map[string]string{}, &tables{}, 0
	for _, name := range names {
		s, err := p.script(files, name, blocks, read)
		if err != nil && broken {
			continue // the blocks are to be mended first
		}
		if ps, ok := errors.AsType[source.Problems](err); ok {
			problems = append(problems, ps...)
			continue
		}
		if err != nil {
			return nil, err
		}
		if first, twice := byName[s.Name]; twice {
			problems = append(problems, source.Problem{Position: source.Position{File: name, Line: 1, Column: 1},
				Message: fmt.Sprintf("the name %q is taken by %s: names are unique within a suite", s.Name, first)})
		}
		byName[s.Name] = name
		problems = append(problems, missingUploads(files, s)...)
		out = append(out, s)
		if steps += len(s.Steps); steps > MaxSteps {
			problems = append(problems, source.Problem{Position: suite.At,
				Message: fmt.Sprintf("suite %s: with the steps of its blocks it has more than %d steps: split it", suite.Name, MaxSteps)})
			break
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return out, nil
}

// Cases lists the cases of a suite: its scripts, the files of its command, or those of its
// parts.
func (p *Project) Cases(files Files, of Suite) (out []suite.Case, err error) {
	if of.Kind != SeveralKind {
		return p.cases(files, of)
	}
	for _, part := range of.Parts {
		cases, err := p.cases(files, part)
		if err != nil {
			return nil, err
		}
		for i := range cases {
			cases[i].Part = part.Name
		}
		out = append(out, cases...)
	}
	return out, unique(of, out)
}

func (p *Project) cases(files Files, of Suite) ([]suite.Case, error) {
	if of.Kind == CommandKind {
		return commandCases(files, of)
	}
	scripts, err := p.Scripts(files, of)
	if err != nil {
		return nil, err
	}
	out := make([]suite.Case, 0, len(scripts))
	for _, s := range scripts {
		c := suite.Case{Name: s.Name, File: s.File, Tags: s.Tags, Locks: s.Locks}
		if s.Data == nil {
			out = append(out, c)
			continue
		}
		for _, row := range s.Rows {
			c.Name, c.Row = row.Of(s.Name), &row
			out = append(out, c)
		}
	}
	return out, nil
}

// Library reads the blocks that the project's scripts share. The error is Problems when
// files are at fault.
func (p *Project) Library(files Files) (*script.Library, error) {
	if len(p.Blocks) == 0 {
		return nil, nil
	}
	names, err := globAll(files, p.Blocks)
	if err != nil {
		return nil, err
	}
	var all []*script.Block
	var problems source.Problems
	for _, name := range names {
		src, err := files.Read(name)
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", name, err)
		}
		blocks, err := script.ParseBlocks(name, src)
		if ps, ok := errors.AsType[source.Problems](err); ok {
			problems = append(problems, ps...)
		}
		all = append(all, blocks...)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return script.NewLibrary(all)
}

// Script reads one script of the project, with its blocks and rows.
func (p *Project) Script(files Files, name string) (*script.Script, error) {
	blocks, err := p.Library(files)
	if err != nil {
		return nil, err
	}
	return p.script(files, name, blocks, &tables{})
}

func (p *Project) script(files Files, name string, blocks *script.Library, read *tables) (*script.Script, error) {
	src, err := files.Read(name)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	s, err := script.Parse(name, src, blocks)
	if err != nil {
		return nil, err
	}
	var problems source.Problems
	if s.Data != nil {
		if s.Rows, err = read.rows(files, s.Data, 1); err != nil {
			return nil, err
		}
	}
	for _, st := range s.Steps {
		names := st.Uses("row")
		for c := st.In; c != nil; c = c.In {
			for _, t := range c.With {
				names = append(names, t.Uses("row")...)
			}
		}
		slices.Sort(names)
		switch names = slices.Compact(names); {
		case len(names) > 0 && s.Data == nil:
			problems = append(problems, source.Problem{Position: st.Position,
				Message: fmt.Sprintf("row.%s: the script %s has no rows: say data: FILE in it", names[0], name)})
		case len(names) > 0:
			problems = append(problems, unknownColumns(st.Position, names, read.all[s.Data.File], s.Data)...)
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return s, nil
}

// missingUploads reports upload steps whose file is not there.
func missingUploads(files Files, s *script.Script) (problems source.Problems) {
	for _, st := range s.Steps {
		if st.Action != script.Upload || strings.Contains(st.Text.Source, "${") {
			continue
		}
		if found, err := files.Glob(escapeGlob(st.Text.Source)); err != nil || len(found) == 0 {
			problems = append(problems, source.Problem{Position: st.Position,
				Message: fmt.Sprintf("upload: no file %q in the project", st.Text.Source)})
		}
	}
	return problems
}

func escapeGlob(name string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{`).Replace(name)
}

func globAll(files Files, patterns []string) ([]string, error) {
	var names []string
	for _, g := range patterns {
		found, err := files.Glob(g)
		if err != nil {
			return nil, fmt.Errorf("glob %q: %w", g, err)
		}
		names = append(names, found...)
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}
