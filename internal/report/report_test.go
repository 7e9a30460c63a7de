package report

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"parallelpane/internal/api"
	"parallelpane/internal/core/outcome"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
)

// hostile is a name in which every form has something to misread.
const hostile = "=HYPERLINK(\"http://evil.example\") <script>alert(1)</script> | # \x1b[31m\u202eberth"

// told7 is a run of two tests on three combinations, one test dealt to two of them.
func told7() (api.Run, api.Causes) {
	at := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	run := api.Run{RunSummary: api.RunSummary{Number: 7, Project: "saltmarsh", Suite: "desk", Matrix: "wall", Environment: "local", By: "tern",
		State: api.Ended, Verdict: verdict.Failed, CreatedAt: &at,
		Counts: verdict.Counts{verdict.Passed: 2, verdict.Failed: 1, verdict.LabFault: 1, verdict.Flaky: 1}}}
	run.Tests = []api.Test{{Name: "Tide table", File: "tides.pane.yaml", Tags: []string{"smoke"}}, {Name: hostile}}
	cell := func(v verdict.Verdict, message string) api.Cell {
		return api.Cell{State: api.Ended, Verdict: v, Attempts: 1, TookMS: 1200, Agent: "quay", Message: message}
	}
	for i, browser := range []string{"chromium", "firefox", "webkitgtk"} {
		run.Panes = append(run.Panes, api.Pane{Label: browser, Values: map[string]string{"browser": browser},
			Info: api.PaneInfo{Browser: browser, Version: "1." + fmt.Sprint(i)}, Counts: verdict.Counts{}})
	}
	run.Cells = [][]api.Cell{{cell(verdict.Passed, ""), cell(verdict.Passed, "")},
		{cell(verdict.Flaky, "late"), cell(verdict.Failed, "+1 is not \"shown\"\nat <tides>")}, {cell(verdict.LabFault, "agent gone"),
			{State: api.Undealt}}}
	causes := api.Causes{Run: 7, Failed: 3, Causes: []api.Cause{{Cause: triage.Cause{Kind: triage.Product, Failed: 2, Reason: "it is so",
		Sentence: "\"<b>late</b>\": fails in 2 of 2 with browser=firefox, in 0 of 2 others"}, News: api.BackAgain, Runs: 3,
		First: &api.CauseSeen{Run: 3}}}}
	for range maxCauses {
		causes.Causes = append(causes.Causes, api.Cause{Cause: triage.Cause{Failed: 1, Sentence: "agent gone"}, News: api.NewCause})
	}
	return run, causes
}

func TestARunInWords(t *testing.T) {
	run, causes := told7()
	w := Words(run, causes, "http://lab.example/runs/7")
	assert.Equal(t, "#7 saltmarsh desk on wall (local): 1 of 5 failed, 1 lab fault, 1 flaky", w.Title)
	assert.Equal(t, w.Title+`
- 2 because of "<b>late</b>": fails in 2 of 2 with browser=firefox, in 0 of 2 others; back again, first seen in #3
- 1 because of agent gone; new
- 1 because of agent gone; new
- 1 because of agent gone; new
- 1 because of agent gone; new
- 1 because of 1 further cause
http://lab.example/runs/7
`, w.Text)
	assert.True(t, strings.HasPrefix(w.Markdown, "[\\#7](http://lab.example/runs/7) saltmarsh desk on wall (local): "+
		"**1 of 5 failed**, 1 lab fault, 1 flaky\n\n"+
		"- 2 because of **\"&lt;b&gt;late&lt;/b&gt;\": fails in 2 of 2 with browser=firefox, in 0 of 2 others**; back again"), w.Markdown)
	assert.Contains(t, w.HTML, `<p><a href="http://lab.example/runs/7">#7</a> saltmarsh desk on wall (local): <strong>1 of 5 failed</strong>`)
	assert.Contains(t, w.HTML, "&lt;b&gt;late&lt;/b&gt;")
	for want, counts := range map[string]verdict.Counts{
		"all 2 passed":                       {verdict.Passed: 2},
		"3 of 4 passed, 1 set aside":         {verdict.Passed: 3, verdict.Aside: 1},
		"0 of 3 passed, 3 lab faults":        {verdict.LabFault: 3},
		"1 of 3 passed, 2 still open":        {verdict.Passed: 1, verdict.Pending: 2},
		"no tests":                           {},
		"2 of 2 failed; cancelled by a tern": {verdict.Failed: 2},
	} {
		run.Counts, run.Why = counts, ""
		if _, why, ok := strings.Cut(want, "; "); ok {
			run.Why = why
		}
		assert.Equal(t, "#7 saltmarsh desk on wall (local): "+want, Words(run, api.Causes{}, "").Title)
	}
	run.Project = "salt\u202emarsh\x07"
	assert.Contains(t, Words(run, api.Causes{}, "").Text, "#7 salt�marsh� desk")
}

func TestNoTextBecomesAFormula(t *testing.T) {
	run, causes := told7()
	var out bytes.Buffer
	require.NoError(t, CSV(&out, Results(run)))
	rows, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 6, "a row for each test that was dealt")
	assert.Equal(t, []string{"test", "combination", "browser", "ran on", "verdict", "attempts", "took ms", "agent", "message", "file",
		"tags"}, rows[0])
	assert.Equal(t, []string{"Tide table", "chromium", "chromium", "chromium 1.0", "passed", "1", "1200", "quay", "", "tides.pane.yaml",
		"smoke"},
		rows[1])
	assert.Equal(t, "'"+hostile, rows[4][0])
	assert.True(t, strings.HasPrefix(rows[5][8], "'+1 is not"), rows[5][8])

	out.Reset()
	require.NoError(t, XLSX(&out, About(run, Words(run, causes, "")), Panes(run), CauseRows(causes.Causes), Results(run)))
	book, err := excelize.OpenReader(&out)
	require.NoError(t, err)
	assert.Equal(t, []string{"Run", "Combinations", "Causes", "Results"}, book.GetSheetList())
	got, err := book.GetRows("Results")
	require.NoError(t, err)
	require.Len(t, got, 6)
	assert.Contains(t, got[4][0], "=HYPERLINK")
	assert.NotContains(t, got[4][0], "\x1b")
	formula, err := book.GetCellFormula("Results", "A5")
	require.NoError(t, err)
	assert.Empty(t, formula)
	kind, err := book.GetCellType("Results", "G2")
	require.NoError(t, err)
	assert.NotEqual(t, excelize.CellTypeInlineString, kind, "times are numbers")
}

func TestTAP(t *testing.T) {
	run, _ := told7()
	var out bytes.Buffer
	require.NoError(t, TAP(&out, run))
	assert.True(t, strings.HasPrefix(out.String(), "TAP version 14\n1..5\nok 1 - Tide table › chromium\n"), out.String())
	assert.Contains(t, out.String(), "ok 3 - Tide table › firefox\n  ---\n  verdict: flaky\n")
	assert.Contains(t, out.String(), `| \# �[31m�berth › firefox`)
	back := outcome.Read(out.Bytes(), time.UTC)
	assert.Len(t, back.Tests, 5, "what this project reads of others it can write")
}

func TestAPageOfItsOwn(t *testing.T) {
	run, causes := told7()
	asked := 0
	page := Page{Run: run, Causes: causes, Address: "http://lab.example/runs/7", At: time.Unix(0, 0), Picture: func(pane, test int) ([]byte,
		string) {
		asked++
		return []byte("png"), "image/png"
	}}
	var out bytes.Buffer
	require.NoError(t, HTML(&out, page))
	html := out.String()
	assert.Equal(t, 3, asked, "what did not pass")
	assert.Equal(t, 3, strings.Count(html, `src="data:image/png;base64,cG5n"`))
	assert.NotContains(t, html, "<script>alert")
	assert.Contains(t, html, "default-src 'none'", "the page forbids itself to fetch anything")
	assert.Equal(t, 1, strings.Count(html, "<script>"))
	assert.Contains(t, html, "<td class=f>◩")
	assert.Contains(t, html, "back again, first seen in #3")

	// A large one has all cells, and pictures as far as the room goes.
	wide := api.Run{RunSummary: run.RunSummary}
	for i := range 60 {
		wide.Panes = append(wide.Panes, api.Pane{Label: fmt.Sprint("pane ", i)})
		row := make([]api.Cell, 500)
		for j := range row {
			row[j] = api.Cell{State: api.Ended, Verdict: verdict.Failed, Message: "late"}
		}
		wide.Cells = append(wide.Cells, row)
	}
	for j := range 500 {
		wide.Tests = append(wide.Tests, api.Test{Name: fmt.Sprint("Berth ", j)})
	}
	out.Reset()
	require.NoError(t, HTML(&out, Page{Run: wide, At: time.Unix(0, 0), Picture: func(int, int) ([]byte, string) {
		return make([]byte, 150<<10), "image/jpeg"
	}}))
	assert.Less(t, out.Len(), 20<<20)
	assert.Equal(t, 30_000, strings.Count(out.String(), "<td class=f>"))
	assert.Contains(t, out.String(), "29000 more did not pass: the wall has them.")
	if dir := os.Getenv("PANE_PAGES"); dir != "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "wide.html"), out.Bytes(), 0o600))
	}
}

func TestABadgeSaysHowASuiteStands(t *testing.T) {
	for want, run := range map[string]*api.RunSummary{
		"no run yet":    nil,
		"1 of 3 failed": {Verdict: verdict.Failed, Counts: verdict.Counts{verdict.Failed: 1, verdict.Passed: 2}},
		"all 3 passed":  {Verdict: verdict.Passed, Counts: verdict.Counts{verdict.Passed: 3}},
		"2 of 3 passed": {Verdict: verdict.LabFault, Counts: verdict.Counts{verdict.Passed: 2, verdict.LabFault: 1}},
	} {
		var out strings.Builder
		require.NoError(t, Badge(&out, hostile, run))
		assert.Contains(t, out.String(), ": "+want+`"`)
		assert.NotContains(t, out.String(), "<script")
		assert.NoError(t, xml.Unmarshal([]byte(out.String()), new(struct{ XMLName xml.Name })), "it is XML, whatever the suite is called")
		assert.Equal(t, run != nil && run.Verdict == verdict.LabFault, strings.Contains(out.String(), "stroke-dasharray"),
			"a verdict has a shape of its own")
	}
}

func TestAWallAsAPicture(t *testing.T) {
	run, _ := told7()
	var out bytes.Buffer
	require.NoError(t, WallPNG(&out, run))
	img, err := png.Decode(&out)
	require.NoError(t, err)
	at := func(pane, test, dx, dy int) color.Color {
		return img.At(cellEdge+pane*(cellSize+cellEdge+groupSpace)+dx, cellEdge+test*(cellSize+cellEdge)+dy)
	}
	assert.Equal(t, inks[verdict.Passed], at(0, 0, 7, 7), "full")
	assert.Equal(t, inks[verdict.Failed], at(1, 1, 3, 3), "cut by a diagonal")
	assert.Equal(t, paperInk, at(1, 1, 10, 10))
	assert.Equal(t, inks[verdict.Flaky], at(1, 0, 3, 7), "half")
	assert.Equal(t, paperInk, at(1, 0, 10, 7))
	assert.Equal(t, color.RGBA{0xff, 0xff, 0xff, 0xff}, at(2, 1, 7, 7), "nothing where a test was not dealt")
	wide := api.Run{Panes: make([]api.Pane, 300), Tests: make([]api.Test, 9000), Cells: make([][]api.Cell, 300)}
	for i := range wide.Cells {
		wide.Cells[i] = make([]api.Cell, 9000)
	}
	out.Reset()
	require.NoError(t, WallPNG(&out, wide))
	img, err = png.Decode(&out)
	require.NoError(t, err)
	assert.LessOrEqual(t, img.Bounds().Dx(), 1000, "of a large one the first")
	assert.LessOrEqual(t, img.Bounds().Dy(), 2000)
	require.NoError(t, WallPNG(&out, api.Run{}), "an empty one is one pixel")
}

func TestTheWordsOfADay(t *testing.T) {
	link := func(n int) string { return fmt.Sprint("http://lab.example/runs/", n) }
	runs := []api.RunSummary{{Number: 3, Project: "saltmarsh", Suite: "desk", Verdict: verdict.Passed,
		Counts: verdict.Counts{verdict.Passed: 2}},
		{Number: 2, Project: "saltmarsh", Suite: "desk", Verdict: verdict.Failed, Counts: verdict.Counts{verdict.Failed: 2}}}
	assert.Equal(t, "saltmarsh on 26 November: 1 of 2 runs failed\n- #2 saltmarsh desk: 2 of 2 failed\n- #3 saltmarsh desk: all 2 passed\n",
		Day("saltmarsh", "26 November", runs, link).Text, "what failed comes first")
	assert.Contains(t, Day("saltmarsh", "26 November", runs, link).HTML, `<a href="http://lab.example/runs/2">#2</a>`)
	assert.Equal(t, "saltmarsh on 26 November: 1 run, none failed", Day("saltmarsh", "26 November", runs[:1], link).Title)
	assert.Equal(t, "saltmarsh on 26 November: nothing ran", Day("saltmarsh", "26 November", nil, link).Title)
	many := Day("saltmarsh", "26 November", slices.Repeat(runs, 50), link)
	assert.Contains(t, many.Text, "- and 60 more")
}

func TestDifferencesAndCausesAsTables(t *testing.T) {
	c := api.Compared{}
	c.Broke = []triage.Change{{Test: "Tides", Pane: "firefox", Was: verdict.Passed, Is: verdict.Failed, Message: "late"}}
	c.Slower = []triage.Slower{{Test: "Fees", Panes: []string{"a", "b"}, WasMS: 100, IsMS: 900}}
	c.Renamed = []suite.Rename{{Was: "Old", Is: "New"}}
	c.Added, c.GoneIn = []string{"Young"}, []string{"kestrel"}
	var out strings.Builder
	require.NoError(t, CSV(&out, Differences(c)))
	assert.Equal(t, "difference,test,combination,was,is,message\nbroke,Tides,firefox,passed,failed,late\nslower,Fees,a; b,100,900,\n"+
		"renamed,New,,Old,New,\ntest added,Young,,,,\ncombination gone,,kestrel,,,\n", out.String())
	out.Reset()
	require.NoError(t, CSV(&out, LabRows(api.LabTrends{Days: []api.LabDay{{Day: "2026-11-27", LabWork: api.LabWork{Attempts: 3, Faults: 1},
		Waits: 2}}})))
	assert.Equal(t, "day,attempts,lab_faults,busy_ms,offered_ms,waits,wait_ms,long_ms\n2026-11-27,3,1,0,0,2,0,0\n", out.String())
	out.Reset()
	groups := []api.TrendGroup{{Value: "-phone", Days: []api.TrendDay{{Day: "2026-11-27", Counts: verdict.Counts{verdict.Failed: 2}}}}}
	require.NoError(t, CSV(&out, TrendRows(api.Trends{By: "device", Groups: groups})))
	assert.Contains(t, out.String(), "2026-11-27,'-phone,")
}
