package triage

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
)

func timed(run Run, ms func(pane, test int) int64) Timed {
	out := Timed{Run: run}
	for i := range run.Panes {
		row := make([]int64, len(run.Tests))
		for j := range row {
			row[j] = ms(i, j)
		}
		out.TookMS = append(out.TookMS, row)
	}
	return out
}

func TestWhatIsDifferent(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	noise := func(base int64) int64 { return base + int64(float64(base)*(r.Float64()-0.5)*0.2) }
	a := timed(wall(sixPanes, append([]string{"old"}, sixteen...), map[string]Cell{
		"c webkitgtk/desktop": notDrawn, "c webkitgtk/phone": notDrawn, "e firefox/phone": isHidden, "f firefox/phone": isHidden,
		"g chromium/phone": agentGone,
	}), func(_, _ int) int64 { return noise(2000) })
	b := timed(wall(append(sixPanes, "kestrel/desktop"), append(sixteen, "young"), map[string]Cell{
		"d chromium/phone": isHidden, "d firefox/phone": isHidden, "e firefox/phone": notDrawn,
		"f firefox/phone": {Verdict: verdict.Failed, Message: "link \"Tide table\": 3 elements match, none visible (waited 7s)"},
	}), func(i, j int) int64 {
		base := int64(3000) // everything is slower: that is the machine
		if j == 1 {
			base = 6000
		}
		if j == 4 && i == 2 {
			base = 15000
		}
		return noise(base)
	})
	c := Compare(a, b, Pairing{})
	of := func(cs []Change) (out []string) {
		for _, x := range cs {
			out = append(out, fmt.Sprintf("%s on %s: %s, %s", x.Test, x.Pane, x.Was, x.Is))
		}
		return
	}
	assert.ElementsMatch(t, []string{"d on chromium/phone: passed, failed", "d on firefox/phone: passed, failed"}, of(c.Broke))
	assert.ElementsMatch(t, []string{"c on webkitgtk/desktop: failed, passed", "c on webkitgtk/phone: failed, passed"}, of(c.Mended))
	assert.Equal(t, []string{"e on firefox/phone: failed, failed"}, of(c.Otherwise))
	assert.Equal(t, []string{"g on chromium/phone: lab-fault, passed"}, of(c.Lab))
	assert.Equal(t, 1, c.Still)
	assert.Equal(t, []string{"young"}, c.Added)
	assert.Equal(t, []string{"old"}, c.Gone)
	assert.Equal(t, []string{"kestrel/desktop"}, c.AddedIn)
	assert.Empty(t, c.GoneIn)
	assert.InDelta(t, 1.5, c.Pace, 0.1)
	require.Len(t, c.Slower, 2, "%+v", c.Slower)
	assert.Equal(t, []string{"e", "b"}, []string{c.Slower[0].Test, c.Slower[1].Test})
	assert.Equal(t, []string{"firefox/desktop"}, c.Slower[0].Panes)
	assert.InDelta(t, 2, c.Slower[1].Ratio, 0.3)
	assert.Empty(t, c.Faster)
	back := Compare(b, a, Pairing{})
	assert.Len(t, back.Faster, 2)
	assert.Len(t, back.Mended, 2)
	same := Compare(a, a, Pairing{})
	assert.Empty(t, same.Broke)
	assert.Equal(t, 4, same.Still)
	assert.Equal(t, Compare(Timed{}, Timed{}, Pairing{}).Cells, 0)
	none := Compare(Timed{}, a, Pairing{})
	assert.Len(t, none.Added, 17)
}

// A newer version of a browser is the same pane, unless both runs have both.
func TestPanesThatAreTheSame(t *testing.T) {
	of := func(versions ...string) (out []Pane) {
		for _, v := range versions {
			out = append(out, Pane{v, map[string]string{"browser": "firefox", "version": v}})
		}
		return
	}
	assert.Equal(t, []int{0}, match(of("152"), of("153"), nil))
	assert.Equal(t, []int{1, 0}, match(of("152", "153"), of("153", "154"), nil))
	assert.Equal(t, []int{-1, -1}, match(of("150", "151"), of("152", "153"), nil), "which is which is not known")
}

func TestSteadiness(t *testing.T) {
	trials := func(s string) (out []Trial) {
		for i, r := range s {
			v := map[rune]verdict.Verdict{'p': verdict.Passed, 'F': verdict.Failed, 'y': verdict.Flaky, 'l': verdict.LabFault}[r]
			out = append(out, Trial{Run: i + 1, Bundle: "one", Verdict: v, Attempts: 2, TookMS: 1000, Agent: "quay-1"})
		}
		return
	}
	for s, want := range map[string]Unsteady{
		"pppp": {Trials: 4}, "FFFF": {Trials: 4}, "": {},
		"pFpy": {Trials: 4, Off: 2, Rate: 0.5, WasteMS: 3000, LastRun: 4},
		"lpyl": {Trials: 2, Off: 1, Rate: 0.5, WasteMS: 1000, LastRun: 3},
	} {
		got := Steadiness(trials(s))
		assert.Equal(t, []any{want.Trials, want.Off, want.Rate, want.WasteMS, want.LastRun},
			[]any{got.Trials, got.Off, got.Rate, got.WasteMS, got.LastRun}, s)
		assert.LessOrEqual(t, got.Low, got.Rate)
		assert.GreaterOrEqual(t, got.High, got.Rate)
	}
	broken := trials("ppFF")
	broken[2].Bundle, broken[3].Bundle = "two", "two"
	assert.Zero(t, Steadiness(broken).Off, "it broke with its files")
	low, high := Wilson(2, 20)
	assert.InDelta(t, 0.0279, low, 1e-3)
	assert.InDelta(t, 0.3010, high, 1e-3)

	many := trials("pypypypypypy")
	for i := range many {
		if many[i].Agent = "quay-2"; many[i].Verdict == verdict.Passed {
			many[i].Agent = "quay-1"
		}
	}
	assert.Equal(t, "on agent quay-2: 6 of 6, elsewhere 0 of 6", Trigger([]Unsteady{Steadiness(many)}))
	assert.Empty(t, Trigger([]Unsteady{Steadiness(trials("pypypypypypy"))}))
}

func TestPanesThatDifferWhereTheyMayAndTestsOfAnotherName(t *testing.T) {
	pane := func(browser, device string) Pane {
		return Pane{Label: browser + "/" + device, Values: map[string]string{"browser": browser, "device": device}}
	}
	of := func(test string, panes ...Pane) Timed {
		out := Timed{Run: Run{Panes: panes, Tests: []Test{{Name: test}}}}
		for range panes {
			out.Cells = append(out.Cells, []Cell{{Verdict: verdict.Passed}})
		}
		return out
	}
	a := of("Hold a berth", pane("firefox", "desktop"), pane("firefox", "phone"))
	b := of("Hold a berth", pane("chromium", "phone"), pane("chromium", "desktop"))
	b.Cells[0][0] = isHidden
	assert.Zero(t, Compare(a, b, Pairing{}).Cells)
	c := Compare(a, b, Pairing{Apart: []string{"browser"}})
	assert.Equal(t, 2, c.Cells)
	assert.Equal(t, []Change{{"Hold a berth", "chromium/phone", At{0, 0}, verdict.Passed, verdict.Failed, isHidden.Message}}, c.Broke)
	both := of("Hold a berth", pane("chromium", "phone"), pane("webkitgtk", "phone"))
	assert.Zero(t, Compare(a, both, Pairing{Apart: []string{"browser"}}).Cells, "which of two panes is meant is not guessed")

	young := of("Take a berth", pane("firefox", "desktop"))
	was := map[string]string{"Take a berth": "Hold a berth"}
	c = Compare(a, young, Pairing{Was: was})
	assert.Equal(t, []suite.Rename{{Was: "Hold a berth", Is: "Take a berth"}}, c.Renamed)
	assert.Equal(t, []any{1, 0, 0}, []any{c.Cells, len(c.Added), len(c.Gone)})
	c = Compare(of("Take a berth", pane("firefox", "desktop")), young, Pairing{Was: was})
	assert.Empty(t, c.Renamed, "both have it by that name")
}

func BenchmarkCompare(b *testing.B) {
	r := rand.New(rand.NewPCG(3, 3))
	make1 := func() Timed {
		var panes, tests []string
		for i := range 60 {
			panes = append(panes, fmt.Sprintf("b%d/d%d", i%6, i/6))
		}
		for i := range 500 {
			tests = append(tests, fmt.Sprint("test ", i))
		}
		run := wall(panes, tests, nil)
		for i := range run.Cells {
			for j := range run.Cells[i] {
				if r.IntN(6) == 0 {
					run.Cells[i][j] = Cell{Verdict: verdict.Failed, Message: fmt.Sprintf("link %q is not there", fmt.Sprint("x", r.IntN(40)))}
				}
			}
		}
		return timed(run, func(_, _ int) int64 { return 1000 + r.Int64N(500) })
	}
	x, y := make1(), make1()
	for b.Loop() {
		Compare(x, y, Pairing{})
	}
}
