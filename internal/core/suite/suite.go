// Package suite says what a suite is made of, whatever its kind.
package suite

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"parallelpane/internal/core/source"
)

// ScriptSuffix ends the name of every script file.
const ScriptSuffix = ".pane.yaml"

// Case is one test of a suite.
type Case struct {
	Name  string // unique within its suite
	File  string // of the bundle; "" where there is none
	Tags  []string
	Locks []string // of which no two cases that run at the same time have the same
	Row   *Row     // nil where the file is one test
	Part  string   // the suite of its own, where its suite is made of others; else ""
}

// Row is one row of data, for which a file is a test.
type Row struct {
	Number int               // from 1
	Name   string            // for people, unique within its file
	Values map[string]string // by column
}

// Of is the name of the test that a row makes of another.
func (r Row) Of(test string) string { return test + Part + r.Name }

// Is reports whether a row is meant by a text: its number or its name.
func (r Row) Is(text string) bool { return text == r.Name || text == strconv.Itoa(r.Number) }

// Owner is the case of a name, or the one whose command told of a test of that name; its
// place among them, or -1.
func Owner(cases []Case, name string) int {
	best, length := -1, -1
	for i, c := range cases {
		if (name == c.Name || strings.HasPrefix(name, c.Name+Part)) && len(c.Name) > length {
			best, length = i, len(c.Name)
		}
	}
	return best
}

// Files maps the names of tests that commands told of to those of the files that told of
// them; every other name stays.
func Files(cases []Case, names []string) []string {
	have := map[string]bool{}
	for _, c := range cases {
		have[c.Name] = true
	}
	var out []string
	for _, name := range names {
		for unit := name; !have[name]; {
			i := strings.LastIndex(unit, Part)
			if i < 0 {
				break
			}
			if unit = unit[:i]; have[unit] {
				name = unit
			}
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Choose narrows cases to those that have one of the tags, if any are asked for, and
// one of the names, if any are. An error names what no case has.
func Choose(cases []Case, tags, names []string) ([]Case, error) {
	haveTags, haveNames := map[string]bool{}, map[string]bool{}
	for _, c := range cases {
		haveNames[c.Name] = true
		for _, t := range c.Tags {
			haveTags[t] = true
		}
	}
	if err := known("tag", tags, haveTags); err != nil {
		return nil, err
	}
	if err := known("test", names, haveNames); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(cases), func(c Case) bool {
		tagged := len(tags) == 0 || slices.ContainsFunc(tags, func(t string) bool { return slices.Contains(c.Tags, t) })
		named := len(names) == 0 || slices.Contains(names, c.Name)
		return !tagged || !named
	}), nil
}

// known says which of the words asked for there is not, and what was probably meant.
func known(what string, asked []string, have map[string]bool) error {
	for _, a := range asked {
		if have[a] {
			continue
		}
		all := slices.Sorted(maps.Keys(have))
		hint := ""
		if near := source.Nearest(a, all); near != "" {
			hint = fmt.Sprintf(" (did you mean %q?)", near)
		}
		return fmt.Errorf("unknown %s %q%s: the suite has %s", what, a, hint, strings.Join(all, ", "))
	}
	return nil
}
