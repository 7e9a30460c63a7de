package project

import (
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/script"
)

// Each lists the suites that a suite is made of: itself, where it has tests of its own.
func (s Suite) Each() []Suite {
	if s.Kind != SeveralKind {
		return []Suite{s}
	}
	return s.Parts
}

// Listed reports whether a listing command names tests of the suite.
func (s Suite) Listed() bool {
	return slices.ContainsFunc(s.Each(), func(p Suite) bool { return p.Command != nil && p.Command.List != "" })
}

// Commands reports whether tests of the suite are commands.
func (s Suite) Commands() bool {
	return slices.ContainsFunc(s.Each(), func(p Suite) bool { return p.Kind == CommandKind })
}

// Part is the part of which a test is, whether it is a case or a command told of it; none
// where the cases have no such test.
func (s Suite) Part(cases []suite.Case, test string) (Suite, bool) {
	i := suite.Owner(cases, test)
	if i < 0 {
		return Suite{}, false
	}
	each := s.Each()
	k := slices.IndexFunc(each, func(p Suite) bool { return p.Name == cases[i].Part })
	if k < 0 {
		return Suite{}, false
	}
	return each[k], true
}

// gather completes the suites that are made of others: what they need of an agent, and
// their secrets, is what their parts do, together.
func (r *reader) gather(p *Project, named map[string]script.Entry) {
	for i := range p.Suites {
		s := &p.Suites[i]
		if s.Kind != SeveralKind {
			continue
		}
		e := named[s.Name]
		var names []string
		if len(r.Strings(e.Value, "suites")) == 0 {
			r.Fail(e.Value, "suite %s: expected suites, the names of those that it is made of", s.Name)
		}
		for _, n := range r.Strings(e.Value, "suites") {
			k := slices.IndexFunc(p.Suites, func(o Suite) bool { return o.Name == n })
			switch {
			case k < 0:
				_, err := p.Suite(n)
				r.Fail(e.Value, "suite %s: %v", s.Name, err)
				return
			case p.Suites[k].Kind == SeveralKind:
				r.Fail(e.Value, "suite %s: %s is itself made of others: name those", s.Name, n)
				return
			case slices.Contains(names, n):
				r.Fail(e.Value, "suite %s: %s is named twice", s.Name, n)
				return
			}
			names = append(names, n)
			part := p.Suites[k]
			for fact, want := range part.Needs {
				if have, both := s.Needs[fact]; both && !slices.Equal(have, want) {
					r.Fail(e.Value, "suite %s: its parts need different agents: %s of %s is %s, and %s of others", s.Name, fact, n,
						strings.Join(want, "|"), strings.Join(have, "|"))
					return
				}
			}
			s.Parts, s.Needs = append(s.Parts, part), s.Needs.With(part.Needs)
			for _, name := range part.Secrets {
				if !slices.Contains(s.Secrets, name) {
					s.Secrets = append(s.Secrets, name)
				}
			}
		}
		if s.Commands() {
			s.Needs = s.Needs.With(fleet.Needs{"commands": {"yes"}})
		}
	}
}

// unique says which names two suites of one have both: names are unique in a run.
func unique(of Suite, cases []suite.Case) error {
	from := map[string]string{}
	var problems source.Problems
	for _, c := range cases {
		if first, twice := from[c.Name]; twice && first != c.Part {
			problems = append(problems, source.Problem{Position: of.At, Message: fmt.Sprintf("suite %s: %s and %s both have a test %q",
				of.Name, first, c.Part, c.Name)})
		}
		from[c.Name] = c.Part
	}
	if len(problems) > 0 {
		return problems
	}
	return nil
}
