package triage

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/verdict"
)

// plant makes a run whose failures have a known cause.
type plant struct {
	r     *rand.Rand
	run   Run
	axes  []string
	of    map[string][]string
	noise float64
	says  string // what the messages depend on
}

var says = []string{"cause", "same", "test", "nothing"}

func newPlant(seed uint64) *plant {
	r := rand.New(rand.NewPCG(seed, 7))
	p := &plant{r: r, noise: 0.02 + 0.08*r.Float64(), says: says[r.IntN(len(says))], axes: []string{"browser", "version", "os", "device"}}
	pick := func(n int, from ...string) []string { return from[:n] }
	p.of = map[string][]string{
		"browser": pick(2+r.IntN(3), "chromium", "firefox", "webkitgtk", "kestrel"),
		"version": pick(3+r.IntN(3), "147", "148", "149", "150", "151"),
		"os":      pick(1+r.IntN(3), "linux", "saltos", "marshos"),
		"device":  pick(1+r.IntN(3), "desktop", "phone", "tablet"),
	}
	var rec func(i int, v map[string]string)
	rec = func(i int, v map[string]string) {
		if i == len(p.axes) {
			if r.Float64() < 0.15 && len(p.run.Panes) > 8 { // combinations that the lab has not
				return
			}
			m := map[string]string{}
			var words []string
			for _, a := range p.axes {
				m[a] = v[a]
				words = append(words, v[a])
			}
			p.run.Panes = append(p.run.Panes, Pane{strings.Join(words, " "), m})
			return
		}
		for _, x := range p.of[p.axes[i]] {
			v[p.axes[i]] = x
			rec(i+1, v)
		}
	}
	rec(0, map[string]string{})
	for i := range 20 + r.IntN(40) {
		p.run.Tests = append(p.run.Tests, Test{Name: fmt.Sprintf("test number %d", i)})
	}
	agents := 3 + r.IntN(4)
	for range p.run.Panes {
		row := make([]Cell, len(p.run.Tests))
		for t := range row {
			row[t] = Cell{Verdict: verdict.Passed, Agent: fmt.Sprintf("quay-%d", r.IntN(agents))}
		}
		p.run.Cells = append(p.run.Cells, row)
	}
	return p
}

// planted is one cause: its pattern, and whether it holds in a cell.
type planted struct {
	pattern []Values
	holds   func(pane, test int) bool
	message string
}

func (p *plant) value(axis string) string { return p.of[axis][p.r.IntN(len(p.of[axis]))] }

// axis draws one that parts the panes.
func (p *plant) axis(but string) string {
	for {
		if a := p.axes[p.r.IntN(len(p.axes))]; a != but && len(p.of[a]) > 1 {
			return a
		}
	}
}

// cause draws one that concerns ten cells at least: fewer do not stand out of noise.
func (p *plant) cause(kind string) planted {
	for {
		c, n := p.draw(kind), 0
		for i := range p.run.Panes {
			for t := range p.run.Tests {
				if c.holds(i, t) {
					n++
				}
			}
		}
		if n >= 10 || kind == "test" {
			return c
		}
	}
}

func (p *plant) draw(kind string) planted {
	c := planted{message: "the " + []string{"tide table", "berth map", "fee"}[p.r.IntN(3)] + " is not drawn"}
	some := map[int]bool{} // tests that it concerns
	for t := range p.run.Tests {
		some[t] = true
	}
	if n := 1 + p.r.IntN(3); n < 3 { // few of them, or all
		for t := range p.run.Tests {
			some[t] = t%(n*7) == 0
		}
	}
	switch kind {
	case "value":
		a := p.axis("")
		v := p.value(a)
		c.pattern = []Values{{Axis: a, Values: []string{v}}}
		c.holds = func(i, t int) bool { return some[t] && p.run.Panes[i].Values[a] == v }
	case "pair":
		for {
			a := p.axis("")
			b := p.axis(a)
			v, w := p.value(a), p.value(b)
			n := 0
			for _, x := range p.run.Panes {
				if x.Values[a] == v && x.Values[b] == w {
					n++
				}
			}
			if n > 0 {
				c.pattern = []Values{{Axis: a, Values: []string{v}}, {Axis: b, Values: []string{w}}}
				c.holds = func(i, t int) bool { return some[t] && p.run.Panes[i].Values[a] == v && p.run.Panes[i].Values[b] == w }
				break
			}
		}
	case "range":
		all := p.of["version"]
		in := all[len(all)-2:]
		if p.r.IntN(2) == 0 {
			in = all[:2]
		}
		c.pattern = []Values{{Axis: "version", Values: in}}
		c.holds = func(i, t int) bool { return some[t] && slices.Contains(in, p.run.Panes[i].Values["version"]) }
	case "test":
		x := p.r.IntN(len(p.run.Tests))
		c.pattern = []Values{{Axis: TestAxis, Values: []string{p.run.Tests[x].Name}}}
		c.holds = func(_, t int) bool { return t == x }
	case "agent":
		a := fmt.Sprintf("quay-%d", p.r.IntN(3))
		c.pattern = []Values{{Axis: AgentAxis, Values: []string{a}}}
		c.holds = func(i, t int) bool { return p.run.Cells[i][t].Agent == a }
	}
	return c
}

func (p *plant) grow(causes ...planted) {
	for i := range p.run.Cells {
		for t := range p.run.Cells[i] {
			c := &p.run.Cells[i][t]
			message := fmt.Sprintf("something else, kind %c, went wrong", 'a'+rune(p.r.IntN(20)))
			fails := false
			for _, x := range causes {
				if x.holds(i, t) {
					fails, message = true, x.message
				}
			}
			if p.r.Float64() < p.noise {
				fails = !fails
			}
			if !fails {
				continue
			}
			switch p.says {
			case "same":
				message = "expected 1, got 2 in the berth list"
			case "test":
				message = "the step of " + []string{"mooring", "ferry", "crane", "pilot", "slip", "buoy", "dredger"}[t%7] +
					strings.Repeat(" again", t/7) + " went wrong"
			case "nothing":
				message = ""
			}
			c.Verdict, c.Message = verdict.Failed, message
		}
	}
}

func same(a, b []Values) bool {
	if len(a) != len(b) {
		return false
	}
	for _, x := range a {
		if !slices.ContainsFunc(b, func(y Values) bool { return x.Axis == y.Axis && slices.Equal(x.Values, y.Values) }) {
			return false
		}
	}
	return true
}

// alike reports whether two patterns hold in the same panes, so that nothing tells them apart.
func (p *plant) alike(a, b []Values) bool {
	if same(a, b) {
		return true
	}
	in := func(of []Values, i int) bool {
		for _, v := range of {
			if !slices.Contains(v.Values, p.run.Panes[i].Values[v.Axis]) {
				return false
			}
		}
		return len(of) > 0
	}
	for i := range p.run.Panes {
		if in(a, i) != in(b, i) {
			return false
		}
	}
	return len(a) > 0 && a[0].Axis != TestAxis && a[0].Axis != AgentAxis && b[0].Axis != TestAxis && b[0].Axis != AgentAxis
}

// shared reports whether two causes have much of their cells in common, so that nobody could
// tell them apart.
func (p *plant) shared(a, b planted) bool {
	na, nb, both := 0, 0, 0
	for i := range p.run.Panes {
		for t := range p.run.Tests {
			x, y := a.holds(i, t), b.holds(i, t)
			if x {
				na++
			}
			if y {
				nb++
			}
			if x && y {
				both++
			}
		}
	}
	return both*3 > min(na, nb)
}

const plants = 150

func TestAPlantedCauseIsFirst(t *testing.T) {
	for _, kind := range []string{"value", "pair", "range", "test", "agent"} {
		right, by := 0, map[string][2]int{}
		for seed := range uint64(plants) {
			p := newPlant(seed)
			c := p.cause(kind)
			p.grow(c)
			got := Causes(p.run)
			n := by[p.says]
			n[1]++
			if len(got) > 0 && p.alike(got[0].Pattern, c.pattern) {
				right++
				n[0]++
			} else if testing.Verbose() && len(got) > 0 {
				t.Log(kind, p.says, seed, len(p.run.Panes), len(p.run.Tests), "planted", c.pattern, "found", got[0].Pattern, got[0].Sentence, got[0].P)
			}
			by[p.says] = n
		}
		t.Log(kind, right, by)
		assert.GreaterOrEqual(t, float64(right), 0.95*plants, kind)
	}
}

func TestTwoPlantedCauses(t *testing.T) {
	kinds := []string{"value", "pair", "range", "test", "agent"}
	both, runs := 0, 0
	for seed := range uint64(plants) {
		p := newPlant(seed + 10_000)
		a, b := p.cause(kinds[seed%5]), p.cause(kinds[seed/5%5])
		for tries := 0; tries < 20 && p.shared(a, b); tries++ {
			b = p.cause(kinds[seed/5%5])
		}
		if p.shared(a, b) {
			continue
		}
		runs++
		if a.message == b.message {
			b.message = "the gate times are empty"
		}
		p.grow(a, b)
		got := Causes(p.run)
		has := func(c planted) bool {
			return slices.ContainsFunc(got, func(x Cause) bool {
				if c.pattern[0].Axis == TestAxis && len(x.Pattern) == 1 && x.Pattern[0].Axis == TestAxis {
					return slices.Contains(x.Pattern[0].Values, c.pattern[0].Values[0]) && len(x.Pattern[0].Values) <= 2
				}
				return p.alike(x.Pattern, c.pattern)
			})
		}
		if has(a) && has(b) {
			both++
		} else if testing.Verbose() {
			t.Log(p.says, seed, a.pattern, b.pattern)
			for _, x := range got[:min(4, len(got))] {
				t.Log("    ", x.Pattern, x.Sentence)
			}
		}
	}
	t.Log("both", both, "of", runs)
	assert.GreaterOrEqual(t, float64(both), 0.9*float64(runs))
}

func TestNoiseHasNoCause(t *testing.T) {
	claimed, by := 0, map[string]int{}
	for seed := range uint64(plants) {
		p := newPlant(seed + 20_000)
		p.grow()
		for _, c := range Causes(p.run) {
			if len(c.Pattern) > 0 {
				claimed++
				by[p.says]++
				if testing.Verbose() {
					t.Log(p.says, seed, c.Pattern, c.Sentence, c.P)
				}
				break
			}
		}
	}
	t.Log("claimed", claimed, by)
	assert.LessOrEqual(t, float64(claimed), 0.05*plants)
}
