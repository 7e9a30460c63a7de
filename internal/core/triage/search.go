package triage

import (
	"cmp"
	"maps"
	"math"
	"slices"

	"parallelpane/internal/core/verdict"
)

// group is the failures of one signature. Counts are by pane, and count earlier runs too.
type group struct {
	sign   Signature
	lab    bool
	titles *titles
	tests  []int         // ascending, those that fail in this run
	fails  map[int][]int // by test, by pane
	cells  []At          // of this run, that are not explained yet
	chance *finding      // the best that can be said of what is left, though not for certain; may be nil
	gone   map[At]bool   // explained, or none of this group's business any more
}

func (g *group) left() int { return len(g.cells) }

type search struct {
	run       Run
	asked     *questions
	panes     int
	pass      [][]int // by test, by pane; earlier runs too
	now       [][]int // passes of this run alone
	any       [][]int // failures of any kind, of this run, by test and pane
	sums      [2]int  // of any, and of all that ran
	groups    []*group
	questions float64 // logarithm of how many groups are asked of
	agents    []string
	agentOf   [][]int // by test, by pane; -1 for none
	groupOf   map[At]*group
	owner     map[At]*finding
	byAgent   float64 // penalty
}

func failing(v verdict.Verdict) bool {
	return v == verdict.Failed || v == verdict.Flaky || v == verdict.LabFault
}

func newSearch(run Run) *search {
	s := &search{run: run, panes: len(run.Panes), groupOf: map[At]*group{}, owner: map[At]*finding{}}
	s.asked = ask(run.Panes)
	nt := len(run.Tests)
	grid := func() [][]int {
		flat, rows := make([]int, nt*s.panes), make([][]int, nt)
		for i := range rows {
			rows[i] = flat[i*s.panes : (i+1)*s.panes]
		}
		return rows
	}
	s.pass, s.now, s.any, s.agentOf = grid(), grid(), grid(), grid()
	byKey, agents := map[string]*group{}, map[string]int{}
	signed := map[string]Signature{}
	sign := func(lab bool, message string, test int) (string, Signature) {
		place := run.Tests[test].Name
		if k, ok := signed[message+"\x00"+place]; ok {
			return keyOf(lab, k), k
		}
		sg := Sign(message, place)
		signed[message+"\x00"+place] = sg
		return keyOf(lab, sg), sg
	}
	for p := range s.panes {
		for t := range nt {
			s.agentOf[t][p] = -1
			if p >= len(run.Cells) || t >= len(run.Cells[p]) {
				continue
			}
			c := run.Cells[p][t]
			if c.Agent != "" {
				i, known := agents[c.Agent]
				if !known {
					i = len(s.agents)
					agents[c.Agent], s.agents = i, append(s.agents, c.Agent)
				}
				s.agentOf[t][p] = i
			}
			switch {
			case c.Verdict == verdict.Passed:
				s.pass[t][p]++
				s.now[t][p]++
				s.sums[1]++
			case failing(c.Verdict):
				s.any[t][p]++
				s.sums[0]++
				s.sums[1]++
				key, sg := sign(c.Verdict == verdict.LabFault, c.Message, t)
				g := byKey[key]
				if g == nil {
					g = &group{sign: sg, lab: c.Verdict == verdict.LabFault, titles: &titles{}, fails: map[int][]int{}, gone: map[At]bool{}}
					byKey[key] = g
					s.groups = append(s.groups, g)
				}
				if g.fails[t] == nil {
					g.fails[t] = make([]int, s.panes)
					g.tests = append(g.tests, t)
				}
				g.fails[t][p]++
				s.groupOf[At{p, t}] = g
				g.cells = append(g.cells, At{p, t})
				g.titles.add(c.Message)
			}
		}
	}
	for _, b := range run.Past {
		if b.Test < 0 || b.Test >= nt || b.Pane < 0 || b.Pane >= s.panes {
			continue
		}
		if b.Verdict == verdict.Passed {
			s.pass[b.Test][b.Pane]++
		} else if failing(b.Verdict) {
			key, _ := sign(b.Verdict == verdict.LabFault, b.Message, b.Test)
			if g := byKey[key]; g != nil && g.fails[b.Test] != nil {
				g.fails[b.Test][b.Pane]++
			}
		}
	}
	many := 1
	for _, g := range s.groups {
		slices.Sort(g.tests)
		if len(g.cells) > 1 {
			many++
		}
	}
	s.questions = math.Log(float64(many))
	s.byAgent = math.Log(float64(max(1, len(s.agents)))) + share[byAgent]
	slices.SortStableFunc(s.groups, func(a, b *group) int { return cmp.Compare(len(b.cells), len(a.cells)) })
	return s
}

func keyOf(lab bool, s Signature) string {
	if lab {
		return "lab\x00" + s.Key
	}
	return s.Key
}

// finding is a pattern with the cells that it explains.
type finding struct {
	groups  []*group
	parts   []Values // axes of the matrix, or the agent; empty where only the tests have it in common
	tests   []int
	panes   []int  // nil where agent is set
	agent   int    // -1 for none
	after   int    // the test behind which it fails; -1 for none
	in, out [2]int // of that: failures and cells behind it, and others, in the runs before too
	named   bool   // the tests are the pattern
	score   float64
	lnP     float64
	sure    bool
	cells   []At
	several bool // messages of several kinds
	hint    []Values
}

// counts of tests inside a question.
type inside struct{ test, k, n int }

// best finds what explains a group's failures best; nil where nothing does.
func (s *search) best(g *group) *finding {
	if len(g.cells) == 0 {
		return nil
	}
	rows := make([]row, 0, len(g.tests))
	all := inside{}
	for _, t := range g.tests {
		r := row{test: t, fails: g.fails[t], passes: s.passOf(g, t)}
		for p := range s.panes {
			r.k += r.fails[p]
			r.n += r.fails[p] + r.passes[p]
		}
		if r.k > 0 {
			rows = append(rows, r)
			all.k += r.k
			all.n += r.n
		}
	}
	if all.k < 2 {
		return nil
	}
	var top, chance *finding // top is of those that are certain enough, if there are any
	better := func(f *finding) {
		if !f.sure && (chance == nil || f.score > chance.score) {
			chance = f
		}
		if top == nil || f.sure && !top.sure || f.sure == top.sure && f.score > top.score+1e-9 {
			top = f
		}
	}
	if g.lab { // an agent says more of the lab's faults than a combination does
		s.agentsOf(g, rows, all, better)
	}
	everywhere := question{kind: whole}
	for i := range s.panes {
		everywhere.panes = append(everywhere.panes, i)
	}
	in := make([]inside, len(rows))
	for qi := -1; qi < len(s.asked.all); qi++ {
		q := &everywhere
		if qi >= 0 {
			q = &s.asked.all[qi]
		}
		k := 0
		for i, r := range rows {
			in[i] = inside{test: i}
			for _, p := range q.panes {
				in[i].k += r.fails[p]
				in[i].n += r.fails[p] + r.passes[p]
			}
			k += in[i].k
		}
		if k < 2 {
			continue
		}
		s.scoped(g, q, rows, in, all, better)
	}
	s.sets(rows, all, better)
	if !g.lab {
		s.agentsOf(g, rows, all, better)
		s.afterOf(g, rows, better)
	}
	// That some tests fail whatever the combination is not said where they fail only in
	// some, as something explains that is only not certain enough.
	if top != nil && top.sure && top.score <= 2*barely && chance != nil && chance.score > 0 && 5*all.k < 4*all.n {
		top = chance
	}
	if top != nil {
		top.groups = []*group{g}
		s.fill(g, top)
	}
	return top
}

// row is one test of a group.
type row struct {
	test          int
	fails, passes []int
	k, n          int
}

// passOf are the passes of a test by pane, without those of cells that are explained.
func (s *search) passOf(g *group, t int) []int {
	if len(g.gone) == 0 {
		return s.pass[t]
	}
	out := slices.Clone(s.pass[t])
	for p := range out {
		if g.gone[At{p, t}] {
			out[p] = 0
		}
	}
	return out
}

// scoped weighs a question for all tests of a group, and for those that fail most where it
// holds.
func (s *search) scoped(g *group, q *question, rows []row, in []inside, all inside, better func(*finding)) {
	penalty := s.asked.penalty[q.kind]
	weigh := func(picked []inside, k, n int, scope float64) {
		score := gain(k, n, all.k, all.n) - penalty - scope
		if score <= 0 {
			return
		}
		f := &finding{parts: q.parts, panes: q.panes, agent: -1, after: -1, score: score, named: q.kind == whole}
		of := inside{}
		for _, x := range picked {
			f.tests = append(f.tests, rows[x.test].test)
			of.k += rows[x.test].k
			of.n += rows[x.test].n
		}
		slices.Sort(f.tests)
		switch {
		case q.kind == whole:
			f.lnP = s.pooled(f.tests) + s.questions
		default:
			f.lnP = lnTail(k, n, all.k, all.n) + penalty + scope + s.questions
			if scope > 0 {
				f.lnP = max(f.lnP, lnTail(k, n, of.k, of.n)+penalty+s.questions)
			}
		}
		f.sure = f.lnP <= math.Log(Alpha)
		better(f)
	}
	k, n := 0, 0
	for _, x := range in {
		k, n = k+x.k, n+x.n
	}
	if q.kind != whole {
		weigh(in, k, n, 0)
	}
	if len(rows) == 1 {
		if q.kind == whole { // against the tests that do not fail like this
			s.alone(q, rows[0], better)
		}
		return
	}
	order := slices.Clone(in)
	slices.SortFunc(order, func(a, b inside) int {
		return cmp.Or(cmp.Compare(b.k*a.n, a.k*b.n), cmp.Compare(b.k, a.k), cmp.Compare(a.test, b.test))
	})
	k, n = 0, 0
	top, most := 0.0, 0
	for i, x := range order[:len(order)-1] {
		if x.k == 0 || i == 1 && q.kind == whole && g.sign.mute() { // what says nothing does not join tests
			break
		}
		k, n = k+x.k, n+x.n
		if score := gain(k, n, all.k, all.n) - lnChoose(len(rows), i+1); score > top {
			top, most = score, i+1
		}
	}
	if most > 0 {
		k, n = 0, 0
		for _, x := range order[:most] {
			k, n = k+x.k, n+x.n
		}
		weigh(order[:most], k, n, lnChoose(len(rows), most)+math.Ln2)
	}
	if q.kind == whole && !g.sign.mute() {
		s.everyTest(q, rows, better)
	}
}

// sets weighs that a group fails with some values of an axis, several of many: those with
// which it fails most.
func (s *search) sets(rows []row, all inside, better func(*finding)) {
	perPane := make([]inside, s.panes)
	for _, r := range rows {
		for p := range s.panes {
			perPane[p].k += r.fails[p]
			perPane[p].n += r.fails[p] + r.passes[p]
		}
	}
	for _, axis := range s.asked.axes {
		sums := make([]inside, len(axis.values))
		for i := range sums {
			sums[i].test = i
			for _, p := range axis.panes[i] {
				sums[i].k, sums[i].n = sums[i].k+perPane[p].k, sums[i].n+perPane[p].n
			}
		}
		slices.SortStableFunc(sums, func(a, b inside) int { return cmp.Compare(b.k*a.n, a.k*b.n) })
		k, n := sums[0].k, sums[0].n
		for m := 2; m < len(sums)-1 && sums[m-1].k > 0; m++ {
			k, n = k+sums[m-1].k, n+sums[m-1].n
			penalty := lnChoose(len(sums), m) + math.Log(float64(len(s.asked.axes))) + share[ofSet]
			score := gain(k, n, all.k, all.n) - penalty
			if score <= 0 {
				continue
			}
			f := &finding{agent: -1, after: -1, score: score, lnP: lnTail(k, n, all.k, all.n) + penalty + s.questions}
			v := Values{Axis: axis.name}
			for _, x := range sums[:m] {
				v.Values = append(v.Values, axis.values[x.test])
				f.panes = append(f.panes, axis.panes[x.test]...)
			}
			slices.Sort(v.Values)
			slices.Sort(f.panes)
			f.parts = []Values{v}
			for _, r := range rows {
				f.tests = append(f.tests, r.test)
			}
			f.sure = f.lnP <= math.Log(Alpha)
			better(f)
		}
	}
}

// alone weighs that a test fails, wherever it runs, where others do not.
func (s *search) alone(q *question, r row, better func(*finding)) { s.ofTests(q, []row{r}, better) }

// everyTest weighs the same of all tests of a group.
func (s *search) everyTest(q *question, rows []row, better func(*finding)) {
	if len(rows)*2 <= len(s.run.Tests) {
		s.ofTests(q, rows, better)
	}
}

func (s *search) ofTests(q *question, rows []row, better func(*finding)) {
	var tests []int
	for _, r := range rows {
		tests = append(tests, r.test)
	}
	lnP := s.pooled(tests) + s.questions
	// It stands behind whatever is said of panes: any score above none.
	better(&finding{panes: q.panes, agent: -1, after: -1, tests: tests, named: true, score: barely, lnP: lnP, sure: lnP <= math.Log(Alpha)})
}

// barely is the score of what is said when there is nothing else to say.
const barely = 1e-6

// pooled is how probable it is by chance that so much of what fails in the run, of whatever
// kind, lies in some tests.
func (s *search) pooled(tests []int) float64 {
	k, n := 0, 0
	for _, t := range tests {
		for p := range s.panes {
			k += s.any[t][p]
			n += s.any[t][p] + s.now[t][p]
		}
	}
	return min(0, lnTail(k, n, s.sums[0], s.sums[1])+lnChoose(len(s.run.Tests), len(tests)))
}

// agentsOf weighs that one agent has a group's failures.
func (s *search) agentsOf(g *group, rows []row, all inside, better func(*finding)) {
	if len(s.agents) < 2 {
		return
	}
	k, n := make([]int, len(s.agents)), make([]int, len(s.agents))
	sumK, sumN := 0, 0
	for _, r := range rows {
		for p, a := range s.agentOf[r.test] {
			if a < 0 || g.gone[At{p, r.test}] {
				continue
			}
			f, ok := min(1, r.fails[p]), s.now[r.test][p] // of earlier runs the agents are not known
			if s.any[r.test][p] == 0 {
				f = 0
			}
			k[a], n[a] = k[a]+f, n[a]+f+ok
			sumK, sumN = sumK+f, sumN+f+ok
		}
	}
	for a := range s.agents {
		score := gain(k[a], n[a], sumK, sumN) - s.byAgent
		if k[a] < 2 || score <= 0 {
			continue
		}
		f := &finding{parts: []Values{{Axis: AgentAxis, Values: []string{s.agents[a]}}}, agent: a, after: -1, score: score,
			lnP: lnTail(k[a], n[a], sumK, sumN) + s.byAgent + s.questions}
		for _, r := range rows {
			f.tests = append(f.tests, r.test)
		}
		f.sure = f.lnP <= math.Log(Alpha)
		better(f)
	}
}

// afterOf weighs that a test fails behind another one in its slice, and not before it.
func (s *search) afterOf(g *group, rows []row, better func(*finding)) {
	if len(rows) != 1 || len(s.run.After) == 0 {
		return
	}
	type side struct{ k, n int }
	t, sum, by := rows[0].test, side{}, map[int]*side{}
	count := func(after []int, k int) {
		sum.k, sum.n = sum.k+k, sum.n+1
		for _, y := range after {
			if by[y] == nil {
				by[y] = &side{}
			}
			by[y].k, by[y].n = by[y].k+k, by[y].n+1
		}
	}
	for p := range s.panes {
		at := At{p, t}
		after, known := s.run.After[at]
		switch {
		case !known || g.gone[at]:
		case s.groupOf[at] == g:
			count(after, 1)
		case s.now[t][p] > 0:
			count(after, 0)
		}
	}
	for _, b := range s.run.Past {
		if b.Test != t || b.After == nil {
			continue
		}
		switch {
		case b.Verdict == verdict.Passed:
			count(b.After, 0)
		case failing(b.Verdict) && Sign(b.Message, s.run.Tests[t].Name).Key == g.sign.Key:
			count(b.After, 1)
		}
	}
	penalty := math.Log(float64(max(1, len(by)))) + share[byAgent]
	for _, y := range slices.Sorted(maps.Keys(by)) {
		x := by[y]
		score := gain(x.k, x.n, sum.k, sum.n) - penalty
		if x.k < 2 || score <= 0 {
			continue
		}
		f := &finding{parts: []Values{{Axis: AfterAxis, Values: []string{s.run.Tests[y].Name}}}, agent: -1, after: y, score: score,
			tests: []int{t}, lnP: lnTail(x.k, x.n, sum.k, sum.n) + penalty + s.questions}
		f.in, f.out = [2]int{x.k, x.n}, [2]int{sum.k - x.k, sum.n - x.n}
		f.sure = f.lnP <= math.Log(Alpha)
		better(f)
	}
}

// holds reports whether a pattern holds in a cell.
func (s *search) holds(f *finding, at At) bool {
	if _, in := slices.BinarySearch(f.tests, at.Test); !in {
		return false
	}
	if f.agent >= 0 {
		return s.agentOf[at.Test][at.Pane] == f.agent
	}
	if f.after >= 0 {
		return slices.Contains(s.run.After[at], f.after)
	}
	_, in := slices.BinarySearch(f.panes, at.Pane)
	return in
}

// fill gives a finding the failing cells of a group that it explains.
func (s *search) fill(g *group, f *finding) {
	for _, at := range g.cells {
		if s.holds(f, at) {
			f.cells = append(f.cells, at)
		}
	}
}

// take takes what a finding explains out of a group.
func (s *search) take(g *group, f *finding) {
	for _, t := range f.tests {
		for p := range s.panes {
			if at := (At{p, t}); s.holds(f, at) {
				g.gone[at] = true
				if g.fails[t] != nil {
					g.fails[t][p] = 0
				}
			}
		}
	}
	g.cells = slices.DeleteFunc(g.cells, func(at At) bool { return g.gone[at] })
}

// merge makes one group of several, whatever they say.
func (s *search) merge(of []*group) *group {
	m := &group{titles: &titles{}, fails: map[int][]int{}, gone: map[At]bool{}}
	for _, g := range of {
		for _, at := range g.cells {
			if m.fails[at.Test] == nil {
				m.fails[at.Test] = make([]int, s.panes)
				m.tests = append(m.tests, at.Test)
			}
			m.fails[at.Test][at.Pane]++
			m.cells = append(m.cells, at)
		}
	}
	slices.Sort(m.tests)
	return m
}

// wholesale finds a set of panes, or an agent, on which nearly everything fails and says
// different things.
func (s *search) wholesale() *finding {
	const most, kinds = 0.9, 3
	var of []*group
	for _, g := range s.groups {
		if !g.lab {
			of = append(of, g)
		}
	}
	if len(of) < kinds {
		return nil
	}
	m := s.merge(of)
	// Every test counts, not only those that fail somewhere.
	for t := range s.run.Tests {
		if m.fails[t] == nil {
			m.fails[t] = make([]int, s.panes)
		}
	}
	f := s.best(m)
	if f == nil || !f.sure || f.named || len(f.parts) == 0 {
		return nil
	}
	ran, failed := 0, 0
	for t := range s.run.Tests {
		for p := range s.panes {
			at := At{p, t}
			if holds := (&finding{tests: []int{t}, panes: f.panes, agent: f.agent, after: f.after}); s.holds(holds, at) {
				ran += s.now[t][p] + s.any[t][p]
				failed += s.any[t][p]
			}
		}
	}
	if float64(failed) < most*float64(ran) {
		return nil
	}
	return s.claim(of, f, kinds)
}

// together finds a pattern of failures that have none by themselves; nil when there is
// none.
func (s *search) together(of []*group) *finding {
	if len(of) < 2 {
		return nil
	}
	m := s.merge(of)
	f := s.best(m)
	if f == nil || !f.sure || f.named && len(f.tests) > 1 {
		return nil
	}
	return s.claim(of, f, 2)
}

// claim takes a finding's cells out of the groups, if at least so many kinds of messages
// have a part in it, none of which is nearly all.
func (s *search) claim(of []*group, f *finding, kinds int) *finding {
	const nearly = 0.8
	n, most, sum := 0, 0, 0
	for _, g := range of {
		k := 0
		for _, at := range g.cells {
			if s.holds(f, at) {
				k++
			}
		}
		if k > 0 {
			n, most, sum = n+1, max(most, k), sum+k
		}
	}
	if n < kinds || float64(most) > nearly*float64(sum) {
		return nil
	}
	f.groups, f.cells, f.several = nil, nil, true
	for _, g := range of {
		before := len(g.cells)
		s.fill(g, f)
		if s.take(g, f); len(g.cells) < before {
			f.groups = append(f.groups, g)
		}
	}
	return f
}

// remainder is what is left of a group, without a pattern that is certain enough.
func (s *search) remainder(g *group) *finding {
	f := &finding{groups: []*group{g}, agent: -1, after: -1, cells: g.cells, lnP: 0}
	for _, at := range g.cells {
		if !slices.Contains(f.tests, at.Test) {
			f.tests = append(f.tests, at.Test)
		}
	}
	slices.Sort(f.tests)
	for i := range s.panes {
		f.panes = append(f.panes, i)
	}
	if h := g.chance; len(g.cells) > 1 && h != nil && !h.sure && len(h.parts) > 0 && len(h.cells) == len(g.cells) {
		f.hint, f.panes, f.agent, f.after, f.lnP = h.parts, h.panes, h.agent, h.after, min(0, h.lnP)
	}
	return f
}
