package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/lipgloss/table"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// colours of verdicts. Each verdict has a shape as well, so that nothing hangs
// on colour alone.
var colours = map[verdict.Verdict]lipgloss.TerminalColor{
	verdict.Passed:      lipgloss.AdaptiveColor{Light: "#1f7a4d", Dark: "#5fd3a0"},
	verdict.Failed:      lipgloss.AdaptiveColor{Light: "#b3261e", Dark: "#ff8a7a"},
	verdict.Flaky:       lipgloss.AdaptiveColor{Light: "#8a5a00", Dark: "#f0b95a"},
	verdict.LabFault:    lipgloss.AdaptiveColor{Light: "#6a4fb3", Dark: "#b9a4ff"},
	verdict.Skipped:     lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
	verdict.Unsupported: lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
	verdict.Ended:       lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
	verdict.Pending:     lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
}

// shapes are the panes of the console in one character: full, cut by a
// diagonal, half, dashed outline, crossed out, dot, empty.
var shapes = map[verdict.Verdict]string{
	verdict.Passed: "■", verdict.Failed: "◩", verdict.Flaky: "◧", verdict.LabFault: "⬚",
	verdict.Unsupported: "╳", verdict.Skipped: "·", verdict.Ended: "▣", verdict.Pending: "□",
}

func paint(v verdict.Verdict, s string) string {
	return lipgloss.NewStyle().Foreground(colours[v]).Render(s)
}

func faint(s string) string { return paint(verdict.Pending, s) }

func newTable(headers ...string) *table.Table {
	head := lipgloss.NewStyle().Bold(true).Padding(0, 1)
	cell := lipgloss.NewStyle().Padding(0, 1)
	return table.New().Headers(headers...).Border(lipgloss.NormalBorder()).BorderTop(false).BorderBottom(false).
		BorderLeft(false).BorderRight(false).BorderColumn(false).BorderStyle(lipgloss.NewStyle().Foreground(colours[verdict.Pending])).
		StyleFunc(func(row, _ int) lipgloss.Style {
			if row == table.HeaderRow {
				return head
			}
			return cell
		})
}

// took writes a time for people: 340 ms, 4.1 s, 2 m 05 s.
func took(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d m %02d s", int(d.Minutes()), int(d.Seconds())%60)
}

func millis(ms int64) string { return took(time.Duration(ms) * time.Millisecond) }

// counts writes how many tests ended how: "12 passed, 2 failed".
func counts(c verdict.Counts) string {
	var parts []string
	for _, v := range []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Flaky, verdict.LabFault, verdict.Ended, verdict.Unsupported, verdict.Skipped} {
		if c[v] > 0 {
			parts = append(parts, paint(v, fmt.Sprintf("%d %s", c[v], v.Words())))
		}
	}
	if c[verdict.Pending] > 0 {
		parts = append(parts, fmt.Sprintf("%d open", c[verdict.Pending]))
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}

// writeWall draws tests down and combinations across.
func writeWall(w io.Writer, run api.Run) {
	labels := make([][]string, len(run.Panes))
	deep := 1
	for i, p := range run.Panes {
		labels[i] = strings.Split(p.Label, " · ")
		deep = max(deep, len(labels[i]))
	}
	line := func(k int, first string) []string { // the k-th part of every label
		row := []string{first}
		for _, l := range labels {
			part := ""
			if k < len(l) {
				part = l[k]
			}
			row = append(row, part)
		}
		return row
	}
	t := newTable(line(0, "test")...)
	for k := 1; k < deep; k++ {
		row := line(k, "")
		for i := range row {
			row[i] = faint(row[i])
		}
		t.Row(row...)
	}
	seen := map[verdict.Verdict]bool{}
	for j, test := range run.Tests {
		row := []string{test.Name}
		for i := range run.Panes {
			c := run.Cells[i][j]
			if c.State == api.Undealt {
				row = append(row, "")
				continue
			}
			seen[c.Verdict] = true
			s := shapes[c.Verdict]
			if c.State == api.Running {
				s = "▷"
			}
			if c.TookMS > 0 {
				s += " " + millis(c.TookMS)
			}
			row = append(row, paint(c.Verdict, s))
		}
		t.Row(row...)
	}
	fmt.Fprintln(w, t)
	var legend []string
	for _, v := range append(slices.Clone(verdict.All), verdict.Pending) {
		if seen[v] {
			legend = append(legend, paint(v, shapes[v]+" "+v.Words()))
		}
	}
	slices.Reverse(legend)
	fmt.Fprintln(w, "\n"+strings.Join(legend, "   "))
}

// writeMissing says what panes could not emulate.
func writeMissing(w io.Writer, run api.Run) {
	for _, p := range run.Panes {
		if len(p.Info.Emulated.Missing) == 0 {
			continue
		}
		var parts []string
		for _, m := range p.Info.Emulated.Missing {
			parts = append(parts, m.Feature)
		}
		fmt.Fprintln(w, faint(fmt.Sprintf("%s did not emulate: %s", p.Label, strings.Join(parts, ", "))))
	}
}

// fault is what a failed attempt says, gathered over the panes that say the
// same.
type fault struct {
	verdict verdict.Verdict
	test    string
	tests   int // how many it is true of
	panes   []string
	step    string
	message string
	shots   []string
}

// faultsOf explains every test that did not simply pass.
func faultsOf(run api.Run, detail func(test int) (api.TestResult, error), base string) ([]fault, error) {
	var out []fault
	for j, test := range run.Tests {
		interesting := func(i int) bool {
			v := run.Cells[i][j].Verdict
			return v != verdict.Passed && v != verdict.Pending && v != verdict.Skipped && v != verdict.Ended
		}
		if !slices.ContainsFunc(run.Panes, func(p api.Pane) bool { return interesting(p.Index) }) {
			continue
		}
		res, err := detail(j)
		if err != nil {
			return nil, err
		}
		for i, p := range run.Panes {
			if !interesting(i) {
				continue
			}
			f := faultOf(test.Name, p.Label, res.Results[i], base)
			same := slices.IndexFunc(out, func(o fault) bool {
				if f.verdict == verdict.Unsupported { // a matter of the combination, whatever the test
					return o.verdict == f.verdict && o.panes[0] == p.Label && o.message == f.message
				}
				return o.test == f.test && o.verdict == f.verdict && o.step == f.step && o.message == f.message
			})
			if same >= 0 && f.verdict == verdict.Unsupported {
				out[same].tests++
			} else if same >= 0 {
				out[same].panes = append(out[same].panes, f.panes...)
				out[same].shots = append(out[same].shots, f.shots...)
			} else {
				out = append(out, f)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b fault) int {
		return slices.Index(verdict.All, a.verdict) - slices.Index(verdict.All, b.verdict)
	})
	return out, nil
}

func faultOf(test, pane string, r api.PaneAttempts, base string) fault {
	f := fault{verdict: r.Cell.Verdict, test: test, tests: 1, panes: []string{pane}, message: r.Cell.Message}
	if r.Cell.Why != "" {
		f.message = r.Cell.Why
	}
	for _, a := range r.Attempts {
		if a.Verdict == verdict.Passed {
			continue
		}
		for _, s := range a.Detail.Steps {
			if s.State == "failed" || s.State == "lab-fault" {
				f.step = fmt.Sprintf("step %d of %d, %s: %s", s.Index+1, len(a.Detail.Steps), s.At, s.Title)
				f.shots = nil
				if s.Shot != "" {
					f.shots = []string{base + "/api/v1/attempts/" + a.ID + "/files/" + s.Shot}
				}
			}
		}
	}
	return f
}

func writeFaults(w io.Writer, faults []fault) {
	for _, f := range faults {
		what := f.test
		if f.verdict == verdict.Unsupported {
			what = fmt.Sprintf("%d tests", f.tests)
		}
		fmt.Fprintf(w, "\n%s %s\n", paint(f.verdict, shapes[f.verdict]+" "+f.verdict.Words()), lipgloss.NewStyle().Bold(true).Render(what))
		fmt.Fprintf(w, "  on    %s\n", strings.Join(f.panes, ", "))
		if f.step != "" {
			fmt.Fprintf(w, "  at    %s\n", f.step)
		}
		if f.message != "" {
			fmt.Fprintf(w, "  why   %s\n", strings.ReplaceAll(f.message, "\n", "\n        "))
		}
		for i, s := range f.shots {
			head := "  shot  "
			if i > 0 {
				head = "        "
			}
			fmt.Fprintln(w, head+faint(s))
		}
	}
}
