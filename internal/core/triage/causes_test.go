package triage

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/verdict"
)

// wall makes a run of panes (browser/device) and tests; cells that are not named have passed.
func wall(panes []string, tests []string, cells map[string]Cell) Run {
	run := Run{}
	for _, p := range panes {
		browser, device, _ := strings.Cut(p, "/")
		run.Panes = append(run.Panes, Pane{p, map[string]string{"browser": browser, "device": device}})
		run.Cells = append(run.Cells, slices.Repeat([]Cell{{Verdict: verdict.Passed}}, len(tests)))
	}
	for j, t := range tests {
		run.Tests = append(run.Tests, Test{Name: t})
		for i, p := range panes {
			if c, ok := cells[t+" "+p]; ok {
				run.Cells[i][j] = c
			}
		}
	}
	return run
}

var (
	sixPanes  = []string{"chromium/desktop", "chromium/phone", "firefox/desktop", "firefox/phone", "webkitgtk/desktop", "webkitgtk/phone"}
	sixteen   = strings.Fields("a b c d e f g h i j k l m n o p")
	notDrawn  = Cell{Verdict: verdict.Failed, Message: `text of marked "fee" is not "201.60"; it is "not yet known" (waited 6s)`}
	isHidden  = Cell{Verdict: verdict.Failed, Message: "link \"Tide table\": 2 elements match, none visible\n  1. <a> hidden (waited 6s)"}
	agentGone = Cell{Verdict: verdict.LabFault, Message: "agent quay-3 left", Agent: "quay-3"}
)

func before(run Run, times int) Run {
	for range times {
		for i, row := range run.Cells {
			for j, c := range row {
				run.Past = append(run.Past, Before{Pane: i, Test: j, Verdict: c.Verdict, Message: c.Message})
			}
		}
	}
	return run
}

func TestCausesInSentences(t *testing.T) {
	fee := map[string]Cell{"c webkitgtk/desktop": notDrawn, "c webkitgtk/phone": notDrawn}
	phones := map[string]Cell{"d chromium/phone": isHidden, "d firefox/phone": isHidden, "d webkitgtk/phone": isHidden,
		"e chromium/phone": isHidden, "e firefox/phone": isHidden, "e webkitgtk/phone": isHidden}
	for name, c := range map[string]struct {
		run     Run
		kind    Kind
		want    string
		pattern []Values
	}{
		"few cells may be chance": {wall(sixPanes, sixteen, fee), Product,
			`text of marked "fee" is not "201.60"; it is "not yet known" in "c": fails in 2 of 2 with browser=webkitgtk, in 0 of 4 others; ` +
				`too few cells to be sure`, nil},
		"runs before make them many": {before(wall(sixPanes, sixteen, fee), 3), Product,
			`text of marked "fee" is not "201.60"; it is "not yet known" in "c": fails in 2 of 2 with browser=webkitgtk, in 0 of 4 others`,
			[]Values{{Axis: "browser", Values: []string{"webkitgtk"}}}},
		"a device": {wall(sixPanes, sixteen, phones), Suite,
			`link "Tide table": 2 elements match, none visible in 2 tests: fails in 6 of 6 with device=phone, in 0 of 6 others`,
			[]Values{{Axis: "device", Values: []string{"phone"}}}},
		"one cell": {wall(sixPanes, sixteen, map[string]Cell{"a firefox/phone": notDrawn}), Product,
			`text of marked "fee" is not "201.60"; it is "not yet known" in "a": fails in one cell, firefox/phone`, nil},
		"nothing passes": {wall(sixPanes[:1], []string{"a", "b"}, map[string]Cell{"a chromium/desktop": notDrawn,
			"b chromium/desktop": notDrawn}),
			Product, `text of marked "fee" is not "201.60"; it is "not yet known" in 2 tests: fails in all 2 cells`, nil},
		"only lab faults": {wall([]string{"chromium/desktop"}, []string{"a", "b"}, map[string]Cell{"a chromium/desktop": agentGone,
			"b chromium/desktop": agentGone}), Lab, `agent quay-3 left in 2 tests: fails in all 2 cells`, nil},
		"what passed when run again": {wall(sixPanes, sixteen, map[string]Cell{"a firefox/phone": {Verdict: verdict.Flaky,
			Message: "late"}}), Suite,
			`late in "a": fails in one cell, firefox/phone; it passed when run again`, nil},
	} {
		t.Run(name, func(t *testing.T) {
			got := Causes(c.run)
			require.Len(t, got, 1)
			assert.Equal(t, c.want, got[0].Sentence)
			assert.Equal(t, c.kind, got[0].Kind, got[0].Reason)
			assert.Equal(t, len(c.pattern), len(got[0].Pattern))
			for i, v := range c.pattern {
				assert.Equal(t, v, got[0].Pattern[i])
			}
		})
	}
	assert.Equal(t, []Cause{}, Causes(Run{}))
	assert.Equal(t, []Cause{}, Causes(wall(sixPanes, sixteen, nil)))
}

// Two kinds of failures in the same panes are two causes; what fails wholesale is one.
func TestWhatIsOneProblem(t *testing.T) {
	cells := map[string]Cell{}
	for _, p := range sixPanes {
		if strings.HasSuffix(p, "phone") {
			cells["a "+p], cells["b "+p] = isHidden, notDrawn
		}
	}
	got := Causes(before(wall(sixPanes, sixteen, cells), 2))
	require.Len(t, got, 2)
	for _, c := range got {
		assert.Equal(t, "device=phone", c.Pattern[0].String())
	}
	for i, test := range sixteen {
		for _, p := range sixPanes {
			if strings.HasPrefix(p, "firefox") {
				cells[test+" "+p] = Cell{Verdict: verdict.Failed, Message: "the " + strings.Repeat("very ", i) + "map is empty"}
			}
		}
	}
	got = Causes(wall(sixPanes, sixteen, cells))
	require.NotEmpty(t, got)
	assert.Equal(t, "failures that say different things in 16 tests: fails in 32 of 32 with browser=firefox, in 0 of 60 others",
		got[0].Sentence)
}

// Several values of an axis are named together.
func TestSomeValuesOfMany(t *testing.T) {
	var panes []string
	for _, b := range strings.Fields("chromium firefox webkitgtk kestrel osprey heron gannet") {
		for _, d := range strings.Fields("desktop phone tablet") {
			panes = append(panes, b+"/"+d)
		}
	}
	cells := map[string]Cell{}
	for _, p := range panes {
		if i := slices.Index(strings.Fields("kestrel osprey heron gannet"), strings.Split(p, "/")[0]); i >= 0 {
			cells["b "+p] = isHidden
		}
	}
	got := Causes(wall(panes, sixteen, cells))
	require.Len(t, got, 1)
	assert.Equal(t, `link "Tide table": 2 elements match, none visible in "b": fails in 12 of 12 with `+
		`browser=gannet|heron|kestrel|osprey, in 0 of 9 others`, got[0].Sentence)
}

// An agent is named for the lab's faults, an axis where both part the cells alike.
func TestAgentsAndAxes(t *testing.T) {
	run := wall(sixPanes, sixteen, nil)
	for i := range run.Cells {
		for j := range run.Cells[i] {
			c := &run.Cells[i][j]
			if c.Agent = fmt.Sprintf("quay-%d", (i+j)%3); c.Agent == "quay-2" && j < 8 {
				c.Verdict, c.Message = verdict.LabFault, "the driver did not start"
			}
		}
	}
	got := Causes(run)
	require.Len(t, got, 1)
	assert.Equal(t, Lab, got[0].Kind)
	assert.Contains(t, got[0].Sentence, "fails in 16 of 16 on agent quay-2, in 0 of 32 others")
}

func TestExactTest(t *testing.T) {
	for _, c := range []struct {
		k, n, fails, cells int
		want               float64
	}{
		{2, 2, 2, 6, 1.0 / 15}, {4, 4, 4, 8, 1.0 / 70}, {0, 5, 3, 9, 1}, {3, 4, 4, 8, 17.0 / 70}, {5, 4, 5, 9, 0},
		{12, 12, 12, 48, math.Exp(-lnChoose(48, 12))},
	} {
		assert.InDelta(t, c.want, math.Exp(lnTail(c.k, c.n, c.fails, c.cells)), 1e-9, "%+v", c)
	}
	rapid.Check(t, func(t *rapid.T) { // the terms of the distribution sum to one
		cells := rapid.IntRange(1, 60).Draw(t, "cells")
		n, fails := rapid.IntRange(0, cells).Draw(t, "n"), rapid.IntRange(0, cells).Draw(t, "fails")
		sum, last := 0.0, 1.0
		for k := min(n, fails); k >= 0; k-- {
			p := math.Exp(lnTail(k, n, fails, cells))
			sum, last = p, p
		}
		if math.Abs(sum-1) > 1e-6 || last < 0 {
			t.Fatalf("the tail from 0 is %v", sum)
		}
	})
}

// Every failing cell is in one cause, whatever the run.
func TestEveryFailureIsInOneCause(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 3))
		run := wall(sixPanes[:1+r.IntN(6)], sixteen[:1+r.IntN(16)], nil)
		want := map[At]bool{}
		for i := range run.Cells {
			for j := range run.Cells[i] {
				v := verdict.All[r.IntN(len(verdict.All))]
				run.Cells[i][j] = Cell{Verdict: v, Message: []string{"", "a", "x \"1\"", strings.Repeat("é\x00\n", 50)}[r.IntN(4)],
					Agent: []string{"", "q", "r"}[r.IntN(3)]}
				if failing(v) {
					want[At{i, j}] = true
				}
			}
		}
		if len(run.Cells) > 1 && r.IntN(3) == 0 {
			run.Cells[0] = run.Cells[0][:r.IntN(len(run.Cells[0])+1)] // it came short
			for at := range want {
				if at.Pane == 0 && at.Test >= len(run.Cells[0]) {
					delete(want, at)
				}
			}
		}
		for _, c := range Causes(run) {
			if c.Failed != len(c.Cells) || c.P < 0 || c.P > 1 || c.Of < c.Failed || c.ElseOf < c.Else || c.Sentence == "" {
				t.Fatalf("%+v", c)
			}
			for _, at := range c.Cells {
				if !want[at] {
					t.Fatalf("%v is in two causes, or did not fail", at)
				}
				delete(want, at)
			}
		}
		if len(want) > 0 {
			t.Fatalf("in no cause: %v", want)
		}
	})
}

func BenchmarkCauses(b *testing.B) {
	for _, says := range says {
		b.Run(says, func(b *testing.B) {
			r := rand.New(rand.NewPCG(1, 1))
			run := Run{}
			for i := range 60 {
				run.Panes = append(run.Panes, Pane{fmt.Sprint(i), map[string]string{"browser": fmt.Sprint("b", i%4), "version": fmt.Sprint(140 + i/4%5),
					"device": fmt.Sprint("d", i/20)}})
				row := make([]Cell, 500)
				for j := range row {
					row[j] = Cell{Verdict: verdict.Passed, Agent: fmt.Sprint("quay-", r.IntN(20))}
					if r.Float64() < 1.0/6 {
						row[j].Verdict = verdict.Failed
						row[j].Message = map[string]string{"cause": fmt.Sprintf("link %q is not there after %d ms", strings.Repeat("x",
							r.IntN(40)), r.IntN(9e3)),
							"same": "expected 1, got 2 in the berth list", "test": "the step of " + strings.Repeat("a", 1+j%90), "nothing": ""}[says]
					}
				}
				run.Cells = append(run.Cells, row)
			}
			for j := range 500 {
				run.Tests = append(run.Tests, Test{Name: fmt.Sprint("test ", j)})
			}
			for b.Loop() {
				Causes(run)
			}
		})
	}
}

// A test that fails only behind another one of its slice depends on it.
func TestWhatDependsOnATestBeforeIt(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	run := wall(sixPanes, sixteen, nil)
	run.After = map[At][]int{}
	order := func() []int { return r.Perm(len(sixteen)) }
	look := func(order []int, test, behind int) (after []int, fails bool) {
		i := slices.Index(order, test)
		after = order[:i]
		return after, slices.Contains(after, behind)
	}
	const test, behind = 5, 11
	fails := Cell{Verdict: verdict.Failed, Message: "the berth B3 is held already"}
	for i := range run.Panes {
		o := order()
		for j := range run.Tests {
			run.After[At{i, j}], _ = look(o, j, behind)
		}
		if _, bad := look(o, test, behind); bad {
			run.Cells[i][test] = fails
		}
		for range 3 {
			after, bad := look(order(), test, behind)
			b := Before{Pane: i, Test: test, Verdict: verdict.Passed, After: after}
			if bad {
				b.Verdict, b.Message = fails.Verdict, fails.Message
			}
			run.Past = append(run.Past, b)
		}
	}
	got := Causes(run)
	require.Len(t, got, 1)
	assert.Equal(t, []Values{{Axis: AfterAxis, Values: []string{"l"}}}, got[0].Pattern)
	assert.Equal(t, Suite, got[0].Kind)
	assert.Regexp(t, `^the berth B3 is held already in "f": fails in (\d+) of \d+ after "l" in the same slice, `+
		`in 0 of \d+ others, with the runs before$`, got[0].Sentence)
}

// Panes with many axes of many values, and long messages, cost no more than is allowed.
func TestStrangersRuns(t *testing.T) {
	run := Run{Tests: []Test{{Name: "a"}, {Name: "b"}}}
	for i := range 400 {
		values := map[string]string{}
		for a := range 40 {
			values[fmt.Sprint("axis", a)] = fmt.Sprint(i % (a + 2))
		}
		values["version"] = fmt.Sprint(i)
		run.Panes = append(run.Panes, Pane{fmt.Sprint(i), values})
		c := Cell{Verdict: verdict.Passed}
		if i%7 == 0 {
			c = Cell{Verdict: verdict.Failed, Message: strings.Repeat(fmt.Sprint("\u202e«<\x1b[3", i), 1<<16)}
		}
		run.Cells = append(run.Cells, []Cell{c, c})
	}
	got := Causes(run)
	require.NotEmpty(t, got)
	assert.Equal(t, "axis5=0", got[0].Pattern[0].String())
	assert.Less(t, len(got[0].Sentence), 1000)
	assert.LessOrEqual(t, len(ask(run.Panes).all), maxQuestions)
}
