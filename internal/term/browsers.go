package term

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Browsers draws which agent has which browser, what is on its way, and what was refused.
// Agents that have the same stand in one column.
func Browsers(all api.Browsers) string {
	var b strings.Builder
	type column struct {
		agents []string
		key    string
	}
	var columns []column
	for _, agent := range all.Agents {
		key := ""
		for _, row := range all.Rows {
			key += mark(row, agent) + "\n"
		}
		i := slices.IndexFunc(columns, func(c column) bool { return c.key == key })
		if i < 0 {
			i = len(columns)
			columns = append(columns, column{key: key})
		}
		columns[i].agents = append(columns[i].agents, agent)
	}
	head := []string{"browser", "version", "channel"}
	for _, c := range columns {
		name := c.agents[0]
		if n := len(c.agents); n > 1 {
			name = fmt.Sprintf("%s and %d more", name, n-1)
		}
		head = append(head, name)
	}
	t := NewTable(head...)
	last := ""
	for _, row := range all.Rows {
		name := row.Browser
		if name == last {
			name = ""
		}
		last = row.Browser
		if row.StandIn && name != "" {
			name += Faint(" stand-in")
		}
		cells := []string{name, dash(row.Version), dash(row.Channel)}
		for _, c := range columns {
			cells = append(cells, mark(row, c.agents[0]))
		}
		t.Row(cells...)
	}
	fmt.Fprintln(&b, t)
	for _, row := range all.Rows {
		for _, agent := range all.Agents {
			if has, there := row.On[agent]; there && !has.Fits {
				fmt.Fprintf(&b, "\n%s %s on %s: %s.\n  %s\n", row.Browser, row.Version, agent, has.Problem, has.Remedy)
			}
		}
	}
	if recent := all.Changes[:min(len(all.Changes), 6)]; len(recent) > 0 {
		fmt.Fprintln(&b, "\nNew in the lab:")
		for _, c := range recent {
			did := "came"
			if !c.Came {
				did = "went"
			}
			fmt.Fprintf(&b, "  %s %s %s with %s, %s\n", c.Browser, c.Version, did, c.Agent, humanize.Time(*c.At))
		}
	}
	if len(all.Stock) == 0 {
		return b.String()
	}
	t = NewTable("stocked", "for", "agent", "state")
	for _, s := range all.Stock {
		name, needs := s.Name+"\n"+Faint(s.ID), s.Needs.String()
		if needs == "" {
			needs = "every agent"
		}
		if len(s.On) == 0 {
			t.Row(name, needs, "–", "no agent matches")
		}
		for _, on := range s.On {
			t.Row(name, needs, on.Agent, stocked(on))
			name, needs = "", ""
		}
	}
	fmt.Fprintf(&b, "\n%s\n", t)
	return b.String()
}

func dash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func mark(row api.BrowserRow, agent string) string {
	has, there := row.On[agent]
	switch {
	case !there:
		return Faint("·")
	case has.Fits:
		return Paint(verdict.Passed, "yes")
	}
	return Paint(verdict.Failed, "no")
}

func stocked(on api.StockOn) string {
	text := string(on.State)
	switch on.State {
	case api.StockOffered:
		return Paint(verdict.Passed, text)
	case api.StockFetching:
		text += fmt.Sprintf(" %s of %s", humanize.Bytes(uint64(on.Done)), humanize.Bytes(uint64(on.Size)))
	}
	if !on.Online {
		text += ", offline"
	}
	if on.Why != "" {
		text += "\n" + on.Why
	}
	if on.State == api.StockRefused {
		return Paint(verdict.Failed, text)
	}
	return text
}
