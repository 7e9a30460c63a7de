package walls

import (
	"path"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Group is what the cells of a part of a run came to.
type Group struct {
	Value  string         `json:"value"`
	Counts verdict.Counts `json:"counts"`
}

// By counts the cells of a run by the values of an axis, by tag or by directory, worst
// first; none where it has no such axis. A test of several tags counts for each.
func By(run *api.Run, by string) []Group {
	groups := map[string]verdict.Counts{}
	count := func(value string, c api.Cell) {
		if groups[value] == nil {
			groups[value] = verdict.Counts{}
		}
		groups[value][c.Verdict]++
	}
	for i, p := range run.Panes {
		for j, c := range run.Cells[i] {
			if c.State == api.Undealt {
				continue
			}
			switch t := run.Tests[j]; by {
			case "tag":
				for _, tag := range t.Tags {
					count(tag, c)
				}
				if len(t.Tags) == 0 {
					count("", c)
				}
			case "directory":
				count(path.Dir(t.File), c)
			default:
				if v, has := p.Values[by]; has {
					count(v, c)
				}
			}
		}
	}
	out := make([]Group, 0, len(groups))
	for value, counts := range groups {
		out = append(out, Group{value, counts})
	}
	slices.SortFunc(out, func(a, b Group) int {
		for _, v := range []verdict.Verdict{verdict.Failed, verdict.LabFault, verdict.Flaky} {
			if d := b.Counts[v]*a.Counts.Total() - a.Counts[v]*b.Counts.Total(); d != 0 {
				return d
			}
		}
		return strings.Compare(a.Value, b.Value)
	})
	return out
}
