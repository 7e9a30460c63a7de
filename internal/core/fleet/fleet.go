// Package fleet compares what work needs with what agents have. It answers not
// only which agents match but why the others do not.
package fleet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Facts is what an agent has. A fact may have several values: an agent with two
// browsers has two values of "browser".
type Facts map[string][]string

// Browser is one browser found on an agent.
type Browser struct {
	Name          string `json:"name"`   // value of the axis "browser": chromium, firefox, webkit …
	Engine        string `json:"engine"` // chromium, gecko, webkit, standin
	Version       string `json:"version"`
	Path          string `json:"path"`
	Driver        string `json:"driver"` // path of the driver; "built in" when the browser serves commands itself
	DriverVersion string `json:"driver_version"`
	Fits          bool   `json:"fits"`    // browser and driver work together
	Problem       string `json:"problem"` // why they do not
	Remedy        string `json:"remedy"`  // what to install
}

// Machine is what one agent reports of itself.
type Machine struct {
	OS        string            `json:"os"` // linux, macos, windows
	OSVersion string            `json:"os_version"`
	Arch      string            `json:"arch"`
	Cores     int               `json:"cores"`
	MemoryMB  int               `json:"memory_mb"`
	Browsers  []Browser         `json:"browsers"`
	Labels    map[string]string `json:"labels"`
	Headed    bool              `json:"headed"`     // can open windows, on a real or virtual display
	StandIn   bool              `json:"stand_in"`   // a simulated agent, labelled as one everywhere
	Version   string            `json:"version"`    // of the agent program
	Slots     int               `json:"slots"`      // places for sessions
	StartedAt string            `json:"started_at"` // RFC 3339
}

// Needs is what a piece of work asks for: every named fact must have one of the
// given values.
type Needs map[string][]string

// NeedsOf turns the values of a combination into needs. Device and the
// author's own axes ask nothing of an agent.
func NeedsOf(values map[string]string) Needs {
	needs := Needs{}
	for _, axis := range []string{"browser", "os", "mode"} {
		if v, ok := values[axis]; ok {
			needs[axis] = []string{v}
		}
	}
	if v, ok := values["version"]; ok {
		needs["browser version"] = []string{values["browser"] + " " + v}
	}
	return needs
}

// HasVersion reports whether a browser's version is the wanted one or begins
// with it, part by part: 153.7.0 has 153 and 153.7.
func (b Browser) HasVersion(want string) bool {
	return want == "" || b.Version == want || strings.HasPrefix(b.Version, want+".")
}

// Facts flattens a machine for matching. Only browsers that fit their driver
// count, since no other can be opened.
func (m Machine) Facts() Facts {
	f := Facts{"os": {m.OS}, "arch": {m.Arch}, "mode": {"headless"}}
	if m.Headed {
		f["mode"] = append(f["mode"], "headed")
	}
	for _, b := range m.Browsers {
		if b.Fits {
			f["browser"] = append(f["browser"], b.Name)
			for i := range len(b.Version) + 1 { // each beginning of the version that ends with a part
				if i == len(b.Version) || b.Version[i] == '.' {
					f["browser version"] = append(f["browser version"], b.Name+" "+b.Version[:i])
				}
			}
		}
	}
	for k, v := range m.Labels {
		f[k] = append(f[k], v)
	}
	return f
}

// Lack is one need that an agent does not meet.
type Lack struct {
	Fact string   `json:"fact"`
	Want []string `json:"want"`
	Have []string `json:"have"`
}

func (l Lack) String() string {
	have := "none"
	if len(l.Have) > 0 {
		have = strings.Join(l.Have, ", ")
	}
	return fmt.Sprintf("%s: wants %s, has %s", l.Fact, strings.Join(l.Want, " or "), have)
}

// Match returns what facts lack of needs, in order of fact name; nil means that
// they match.
func Match(needs Needs, facts Facts) []Lack {
	var lacks []Lack
	for fact, want := range needs {
		have := facts[fact]
		if !slices.ContainsFunc(want, func(w string) bool { return slices.Contains(have, w) }) {
			lacks = append(lacks, Lack{Fact: fact, Want: want, Have: have})
		}
	}
	slices.SortFunc(lacks, func(a, b Lack) int { return cmp.Compare(a.Fact, b.Fact) })
	return lacks
}

// Member is an agent as matching sees it.
type Member struct {
	Name   string
	Facts  Facts
	Online bool
	Busy   bool // no slot is free
}

// Answer says which members match and what the others lack.
type Answer struct {
	Idle    []string          `json:"idle"`
	Busy    []string          `json:"busy"`
	Offline []string          `json:"offline"` // would match if they were online
	Others  map[string][]Lack `json:"others"`
}

// Possible says whether any member, even an offline one, could do the work.
func (a Answer) Possible() bool { return len(a.Idle)+len(a.Busy)+len(a.Offline) > 0 }

// Ask compares needs with every member.
func Ask(needs Needs, members []Member) Answer {
	a := Answer{Others: map[string][]Lack{}}
	for _, m := range members {
		lacks := Match(needs, m.Facts)
		switch {
		case len(lacks) > 0:
			a.Others[m.Name] = lacks
		case !m.Online:
			a.Offline = append(a.Offline, m.Name)
		case m.Busy:
			a.Busy = append(a.Busy, m.Name)
		default:
			a.Idle = append(a.Idle, m.Name)
		}
	}
	return a
}

// Explain is one sentence for work that no member can do: the nearest agents
// (at most three) and what each lacks.
func (a Answer) Explain(needs Needs) string {
	if a.Possible() {
		return ""
	}
	if len(a.Others) == 0 {
		return "no agent has joined yet: start one with pane agent"
	}
	type near struct {
		name  string
		lacks []Lack
	}
	var all []near
	for name, lacks := range a.Others {
		all = append(all, near{name, lacks})
	}
	slices.SortFunc(all, func(x, y near) int {
		return cmp.Or(cmp.Compare(len(x.lacks), len(y.lacks)), cmp.Compare(x.name, y.name))
	})
	var parts []string
	for _, n := range all[:min(3, len(all))] {
		lacks := make([]string, len(n.lacks))
		for i, l := range n.lacks {
			lacks[i] = l.String()
		}
		parts = append(parts, n.name+" ("+strings.Join(lacks, "; ")+")")
	}
	return fmt.Sprintf("no agent has %s; nearest: %s", needs, strings.Join(parts, ", "))
}

// String writes needs in the form a person types: browser=firefox os=linux|macos.
func (n Needs) String() string {
	parts := make([]string, 0, len(n))
	for fact, want := range n {
		parts = append(parts, fact+"="+strings.Join(want, "|"))
	}
	slices.Sort(parts)
	return strings.Join(parts, " ")
}
