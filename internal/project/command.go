package project

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/script"
)

var (
	placeholder = regexp.MustCompile(`\{([a-z]+)\}`)
	envName     = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,63}$`)
)

// command reads one field of a command suite.
func (r *reader) command(out *Suite, e script.Entry) {
	c := out.Command
	switch e.Key {
	case "command":
		c.Line = strings.TrimSpace(r.String(e.Value, "command"))
		if len(c.Line) > 8<<10 {
			r.Fail(e.Value, "command: at most 8 KB; put what is longer into a file of the suite")
		}
		for _, m := range placeholder.FindAllStringSubmatch(c.Line, -1) {
			if _, known := suite.Placeholders[m[1]]; !known {
				r.Fail(e.Value, "command: {%s} stands for nothing: one of %s", m[1], strings.Join(slices.Sorted(maps.Keys(suite.Placeholders)), ", "))
			}
		}
	case "list":
		if c.List = strings.TrimSpace(r.String(e.Value, "list")); len(c.List) > 8<<10 {
			r.Fail(e.Value, "list: at most 8 KB; put what is longer into a file of the suite")
		}
	case "prepare":
		if c.Prepare = strings.TrimSpace(r.String(e.Value, "prepare")); len(c.Prepare) > 8<<10 {
			r.Fail(e.Value, "prepare: at most 8 KB; put what is longer into a file of the suite")
		}
	case "cases":
		out.Cases = r.globs(e.Value, "cases")
	case "results":
		if c.Results = suite.Results(r.String(e.Value, "results")); !slices.Contains(suite.AllResults, c.Results) {
			r.Fail(e.Value, "results: expected one of %v, found %q", suite.AllResults, c.Results)
		}
	case "limit":
		text := r.String(e.Value, "limit")
		limit, err := time.ParseDuration(text)
		if err != nil || limit < time.Second || limit > suite.MaxLimit {
			r.Fail(e.Value, "limit: expected a time from 1s to %s such as 10m, found %q", suite.MaxLimit, text)
		}
		c.LimitMS = limit.Milliseconds()
	case "env":
		for _, v := range r.Mapping(e.Value, "env") {
			if !envName.MatchString(v.Key) || strings.HasPrefix(v.Key, "PANE_") {
				r.Fail(v.Node, "env: %q is no name of a variable of one's own: letters, digits and '_', not beginning with PANE_", v.Key)
			}
			c.Env[v.Key] = r.String(v.Value, "env "+v.Key)
		}
	}
}

// commandSuite says what a command suite lacks.
func (r *reader) commandSuite(s script.Entry, out Suite) {
	c := out.Command
	switch {
	case len(out.Scripts) > 0:
		r.Fail(s.Node, "suite %s: a suite has scripts or a command, not both", s.Key)
	case c.Line == "":
		r.Fail(s.Node, "suite %s: expected command, such as node --test {file}", s.Key)
	case c.List != "" && len(out.Cases) > 0:
		r.Fail(s.Node, "suite %s: it is cut by its files (cases) or by the names that a command prints (list), not by both", s.Key)
	case c.List != "" && !strings.Contains(c.Line, "{name}"):
		r.Fail(s.Node, "suite %s: the command has to be told which test to run, as {name}", s.Key)
	case c.List != "":
	case len(out.Cases) == 0:
		r.Fail(s.Node, "suite %s: expected cases, a list of globs of the files for each of which the command runs once", s.Key)
	case c.Results == suite.JUnit && !strings.Contains(c.Line, "{results}"):
		r.Fail(s.Node, "suite %s: the command has to write JUnit XML to {results}; say results: tap or exit where it does not", s.Key)
	}
}

// commandCases lists the files for each of which the command runs.
func commandCases(files Files, of Suite) ([]suite.Case, error) {
	if of.Command.List != "" {
		return listedCases(files, of)
	}
	names, err := globAll(files, of.Cases)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return nil, source.Problems{{Position: of.At, Message: fmt.Sprintf("suite %s: no file matches %s", of.Name, strings.Join(of.Cases,
			", "))}}
	}
	rows := []suite.Row{{}}
	if of.Data != nil {
		if rows, err = (&tables{}).rows(files, of.Data, len(names)); err != nil {
			return nil, err
		}
	}
	out := make([]suite.Case, 0, len(names)*len(rows))
	for _, name := range names {
		for _, row := range rows {
			c := suite.Case{Name: name, File: name}
			if of.Data != nil {
				c.Name, c.Row = row.Of(name), &row
			}
			out = append(out, c)
		}
	}
	return out, nil
}
