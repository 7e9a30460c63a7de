// Package fleet compares what work needs with what agents have. It answers not
// only which agents match but why the others do not.
package fleet

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"parallelpane/internal/core/combo"
)

// Facts is what an agent has. A fact may have several values: an agent with two
// browsers has two values of "browser". Values of "engine", "channel" and "version"
// begin with the browser that they belong to: "firefox gecko", "firefox esr",
// "firefox 153.0 esr".
type Facts map[string][]string

// Browser is one browser found on an agent.
type Browser struct {
	Name          string `json:"name"`   // value of the axis "browser": chromium, firefox, webkitgtk …
	Engine        string `json:"engine"` // chromium, gecko, webkit, standin
	Version       string `json:"version"`
	Channel       string `json:"channel"` // one of Channels; "" where the installation does not say
	Arch          string `json:"arch"`    // such as amd64; "" where it does not say
	From          Origin `json:"from"`
	Base          string `json:"base"` // version of the Chromium that it is made from, where that is not its own
	Path          string `json:"path"`
	Driver        string `json:"driver"` // path of the driver; "built in" when the browser serves commands itself
	DriverVersion string `json:"driver_version"`
	Fits          bool   `json:"fits"`    // browser and driver work together
	Problem       string `json:"problem"` // why they do not
	Remedy        string `json:"remedy"`  // what to install
}

// Origin is where on its machine an installation was found.
type Origin string

// The places, from the best on.
const (
	Named   Origin = "named"   // by the settings of the agent
	Stocked Origin = "stocked" // in the agent's own directory of browsers
	System  Origin = "system"  // where the system's packages put it
	OnPath  Origin = "path"    // on the path for programs
	Phone   Origin = "phone"   // on a phone that hangs on the machine
)

// Better orders places from the best on.
func (o Origin) Better(than Origin) int {
	all := []Origin{Named, Stocked, System, OnPath, Phone}
	return cmp.Compare(slices.Index(all, o), slices.Index(all, than))
}

// Machine is what one agent reports of itself.
type Machine struct {
	OS        string            `json:"os"` // linux, macos, windows, android
	OSVersion string            `json:"os_version"`
	Arch      string            `json:"arch"`
	Cores     int               `json:"cores"`
	MemoryMB  int               `json:"memory_mb"`
	Browsers  []Browser         `json:"browsers"`
	Drivers   []Driver          `json:"drivers"`
	Commands  bool              `json:"commands"` // carries out command suites
	Stocking  bool              `json:"stocking"` // takes browsers from the service
	Tools     map[string]string `json:"tools"`    // versions of programs that suites run with, by name
	Labels    map[string]string `json:"labels"`
	Pool      string            `json:"pool"`             // shared, or the project that owns the agent
	Headed    bool              `json:"headed"`           // can open windows, on a real or virtual display
	Model     string            `json:"model,omitempty"`  // of a phone, such as Quay-7
	Screen    string            `json:"screen,omitempty"` // of a phone, in CSS pixels, such as 412x915
	StandIn   bool              `json:"stand_in"`         // a simulated agent, labelled as one everywhere
	Isolation string            `json:"isolation"`        // Sandbox or None; "" means None
	Exposed   string            `json:"exposed"`          // why there is no sandbox
	Version   string            `json:"version"`          // of the agent program
	Slots     int               `json:"slots"`            // places for sessions
	StartedAt string            `json:"started_at"`       // RFC 3339
}

// HasVersion reports whether a version selector allows the browser's version;
// an empty one does.
func (b Browser) HasVersion(want string) bool {
	if want == "" {
		return true
	}
	sel, err := combo.ParseSelector(want)
	return err == nil && sel.Allows(combo.InChannel(b.Version, b.Channel))
}

// Serves reports whether the browser can be opened for a combination.
func (b Browser) Serves(values map[string]string) bool {
	named := func(axis, is string) bool { return values[axis] == "" || values[axis] == is }
	return b.Fits && named("browser", b.Name) && named("engine", b.Engine) && named("channel", cmp.Or(b.Channel, "stable")) &&
		b.HasVersion(values["version"])
}

// Own are the facts that agents have by themselves; labels may not use their
// names.
var Own = []string{"agent", "arch", "browser", "channel", "commands", "cores", "engine", "isolation", "memory_mb", "mode", "model", "os",
	"os_version", "pool",
	"screen", "version"}

// Facts flattens the machine of an agent for matching. Only browsers that fit
// their driver count, since no other can be opened.
func (m Machine) Facts(agent string) Facts {
	f := Facts{"agent": {agent}, "os": {m.OS}, "arch": {m.Arch}, "mode": {"headless"}, "pool": {cmp.Or(m.Pool, Shared)},
		"cores": {strconv.Itoa(m.Cores)}, "memory_mb": {strconv.Itoa(m.MemoryMB)}, "os_version": {m.OSVersion}, "isolation": {m.isolation()}}
	if m.Headed {
		f["mode"] = append(f["mode"], "headed")
	}
	if m.Commands {
		f["commands"] = []string{"yes"}
	}
	if m.OS == Android {
		f["model"], f["screen"] = []string{m.Model}, []string{m.Screen}
	}
	for _, b := range m.Browsers {
		if b.Fits {
			if !slices.Contains(f["browser"], b.Name) {
				f["browser"] = append(f["browser"], b.Name)
			}
			f["version"] = append(f["version"], b.Name+" "+combo.InChannel(b.Version, b.Channel))
			for fact, of := range map[string]string{"engine": b.Engine, "channel": cmp.Or(b.Channel, combo.Channels[0])} {
				if v := b.Name + " " + of; !slices.Contains(f[fact], v) {
					f[fact] = append(f[fact], v)
				}
			}
		}
	}
	for k, v := range m.Tools {
		if !slices.Contains(Own, k) {
			f[k] = []string{v}
		}
	}
	for k, v := range m.Labels {
		if !slices.Contains(Own, k) {
			f[k] = []string{v}
		}
	}
	return f
}

// Android is the os of phones.
const Android = "android"

// PhoneOf names a phone that hangs on an agent's machine as an agent of its own. Nobody
// else's name has a colon.
func PhoneOf(agent, phone string) string { return agent + ":" + phone }

// IsAgent says whether an agent may be called so: as IsName says, or as PhoneOf.
func IsAgent(s string) bool {
	agent, phone, of := strings.Cut(s, ":")
	return IsName(agent) && (!of || IsName(phone))
}

// What stands between the sessions of an agent and its machine.
const (
	Sandbox = "sandbox"  // each session sees nothing of the machine
	None    = "none"     // sessions run beside the agent, as its user
	NotReal = "stand-in" // nothing runs that could see anything
)

func (m Machine) isolation() string {
	if m.StandIn && m.Isolation == "" {
		return NotReal
	}
	return cmp.Or(m.Isolation, None)
}

// Guarded are the needs of work that strangers bring along.
var Guarded = Needs{"isolation": {Sandbox, NotReal}}

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

// Match returns what the facts of an agent lack of the needs of work, in order of fact
// name; nil means that they match: what Has asks for, and that phones are asked for.
func Match(needs Needs, facts Facts) []Lack {
	lacks := Has(needs, facts)
	if want := forPhones(needs, facts); want != nil {
		lacks = append(lacks, *want)
		slices.SortFunc(lacks, func(a, b Lack) int { return cmp.Compare(a.Fact, b.Fact) })
	}
	return lacks
}

// Has returns what facts lack of needs, in order of fact name; nil means that they have
// all. Browser, engine and version have to be those of one browser; what is lacking of
// the first of them is said, and what follows from it is not.
func Has(needs Needs, facts Facts) []Lack {
	var lacks []Lack
	for fact, want := range needs {
		have := facts[fact]
		meets := func(w string) bool { return has(have, w) }
		switch fact {
		case "engine":
			have = ofBrowsers(have, needs["browser"])
			meets = func(w string) bool { return len(ofEngine(have, []string{w})) > 0 }
		case "channel":
			have = ofBrowsers(have, needs["browser"])
			meets = func(w string) bool { return len(ofEngine(have, []string{w})) > 0 }
		case "version":
			have = inChannels(ofBrowsers(have, needs["browser"]), needs["channel"])
			if engines, asked := needs["engine"]; asked {
				have = ofBrowsers(have, append(ofEngine(ofBrowsers(facts["engine"], needs["browser"]), engines), ""))
			}
			meets = func(w string) bool { return hasVersion(have, w) }
		}
		if !slices.ContainsFunc(want, meets) {
			lacks = append(lacks, Lack{Fact: fact, Want: want, Have: have})
		}
	}
	for i, first := range aboutBrowsers {
		if slices.ContainsFunc(lacks, func(l Lack) bool { return l.Fact == first }) {
			lacks = slices.DeleteFunc(lacks, func(l Lack) bool { return slices.Contains(aboutBrowsers[i+1:], l.Fact) })
		}
	}
	slices.SortFunc(lacks, func(a, b Lack) int { return cmp.Compare(a.Fact, b.Fact) })
	return lacks
}

// forPhones is what keeps work away from a phone that does not ask for one: a browser of
// a name is another thing there.
func forPhones(needs Needs, facts Facts) *Lack {
	if !slices.Contains(facts["os"], Android) {
		return nil
	}
	for _, fact := range []string{"os", "model", "screen", "agent"} {
		if _, asked := needs[fact]; asked {
			return nil
		}
	}
	return &Lack{Fact: "os", Want: []string{"one that is no phone, unless " + Android + " is asked for"}, Have: facts["os"]}
}

// aboutBrowsers are the facts of one browser, from the coarsest on.
var aboutBrowsers = []string{"browser", "engine", "channel", "version"}

func has(have []string, want string) bool {
	if slices.Contains(have, want) {
		return true
	}
	if want == "" || (want[0] != '<' && want[0] != '>') {
		return false
	}
	sel, err := combo.ParseSelector(want)
	return err == nil && slices.ContainsFunc(have, sel.Allows)
}

// ofBrowsers keeps the versions of the named browsers; no name keeps all.
func ofBrowsers(versions, browsers []string) (out []string) {
	for _, v := range versions {
		if name, _, _ := strings.Cut(v, " "); len(browsers) == 0 || slices.Contains(browsers, name) {
			out = append(out, v)
		}
	}
	return out
}

// inChannels keeps the versions of the named channels; no name keeps all.
func inChannels(versions, channels []string) []string {
	if len(channels) == 0 {
		return versions
	}
	return slices.DeleteFunc(slices.Clone(versions), func(v string) bool {
		_, version, _ := strings.Cut(v, " ")
		_, channel, _ := strings.Cut(version, " ")
		return !slices.Contains(channels, cmp.Or(channel, combo.Channels[0]))
	})
}

// ofEngine lists the browsers of some engines, from values of "engine".
func ofEngine(have, engines []string) (browsers []string) {
	for _, v := range have {
		if name, e, _ := strings.Cut(v, " "); slices.Contains(engines, e) {
			browsers = append(browsers, name)
		}
	}
	return browsers
}

func hasVersion(have []string, want string) bool {
	sel, err := combo.ParseSelector(want)
	return err == nil && slices.ContainsFunc(have, func(v string) bool {
		_, version, _ := strings.Cut(v, " ")
		return sel.Allows(version)
	})
}

// Member is an agent as matching sees it.
type Member struct {
	Name  string
	Facts Facts
	Busy  bool   // no slot is free
	Away  string // why it takes no work now; "" when it does
}

// Answer says which members match and what the others lack.
type Answer struct {
	Idle   []string          `json:"idle"`
	Busy   []string          `json:"busy"`
	Away   map[string]string `json:"away" description:"agents that would match but take no work now, with the reason"`
	Others map[string][]Lack `json:"others" description:"agents that do not match, with what each lacks"`
}

// Possible says whether any member, even one that is away, could do the work.
func (a Answer) Possible() bool { return len(a.Idle)+len(a.Busy)+len(a.Away) > 0 }

// Ask compares needs with every member.
func Ask(needs Needs, members []Member) Answer {
	a := Answer{Idle: []string{}, Busy: []string{}, Away: map[string]string{}, Others: map[string][]Lack{}}
	for _, m := range members {
		lacks := Match(needs, m.Facts)
		switch {
		case len(lacks) > 0:
			a.Others[m.Name] = lacks
		case m.Away != "":
			a.Away[m.Name] = m.Away
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
	var parts []string
	groups := a.Alike()
	for _, g := range groups[:min(3, len(groups))] {
		parts = append(parts, g.String())
	}
	return fmt.Sprintf("no agent has %s; nearest: %s", needs.Plain(), strings.Join(parts, ", "))
}

// Alike are agents that lack the same.
type Alike struct {
	Agents []string
	Lacks  []Lack
}

func (g Alike) String() string {
	lacks := make([]string, len(g.Lacks))
	for i, l := range g.Lacks {
		lacks[i] = l.String()
	}
	names := strings.Join(g.Agents, ", ")
	if n := len(g.Agents); n > 2 {
		names = fmt.Sprintf("%s and %d more", g.Agents[0], n-1)
	}
	return names + " (" + strings.Join(lacks, "; ") + ")"
}

// Alike gathers the agents that do not match by what they lack, those that lack
// least first.
func (a Answer) Alike() (out []Alike) {
	index := map[string]int{}
	for _, name := range a.Nearest() {
		key := Alike{Lacks: a.Others[name]}.String()
		i, known := index[key]
		if !known {
			i = len(out)
			index[key] = i
			out = append(out, Alike{Lacks: a.Others[name]})
		}
		out[i].Agents = append(out[i].Agents, name)
	}
	return out
}

// Nearest lists the agents that do not match, those that lack least first.
func (a Answer) Nearest() []string {
	names := slices.Sorted(maps.Keys(a.Others))
	slices.SortStableFunc(names, func(x, y string) int { return cmp.Compare(len(a.Others[x]), len(a.Others[y])) })
	return names
}

var name = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,63}$`)

// IsName says whether somebody may call an agent, a pool, a preset or a schedule so:
// letters, digits, '.', '-' and '_', at most 64, of which the first is a letter or a
// digit.
func IsName(s string) bool { return name.MatchString(s) }

// ToolVersion is a tool's version as a fact: at most its first three numbers.
func ToolVersion(v string) string {
	parts := strings.Split(v, ".")
	if v == "" {
		return ""
	}
	return strings.Join(parts[:min(3, len(parts))], ".")
}
