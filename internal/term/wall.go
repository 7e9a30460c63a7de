package term

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/charmbracelet/lipgloss"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// dealt is how many tests a pane has in its run.
func dealt(p api.Pane) (n int) {
	for _, k := range p.Counts {
		n += k
	}
	return n
}

// Wall draws tests down and combinations across; below each cell its last runs, where past
// has them by pane and test.
func Wall(w io.Writer, run api.Run, past [][]string) {
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
	t := NewTable(line(0, "test")...).BorderHeader(false) // its rule goes below the last line of the heads
	for k := 1; k < deep; k++ {
		row := line(k, "")
		for i := range row {
			row[i] = Faint(row[i])
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
			s := Shapes[c.Verdict]
			if c.State == api.Running {
				s = "▷"
			}
			if c.TookMS > 0 {
				s += " " + Millis(c.TookMS)
			}
			if s = Paint(c.Verdict, s); i < len(past) && j < len(past[i]) && past[i][j] != "" {
				s += "\n" + strip(past[i][j])
			}
			row = append(row, s)
		}
		t.Row(row...)
	}
	lines := strings.Split(t.String(), "\n")
	rule := Faint(strings.Repeat("─", lipgloss.Width(lines[0])))
	fmt.Fprintln(w, strings.Join(slices.Insert(lines, deep, rule), "\n"))
	var legend []string
	for _, v := range append(slices.Clone(verdict.All), verdict.Pending) {
		if seen[v] {
			legend = append(legend, Paint(v, Shapes[v]+" "+v.Words()))
		}
	}
	slices.Reverse(legend)
	fmt.Fprintln(w, "\n"+strings.Join(legend, "   "))
}

// Missing says what panes could not emulate.
func Missing(w io.Writer, run api.Run) {
	for _, p := range run.Panes {
		if len(p.Info.Emulated.Missing) == 0 {
			continue
		}
		var parts []string
		for _, m := range p.Info.Emulated.Missing {
			parts = append(parts, m.Feature)
		}
		fmt.Fprintln(w, Faint(fmt.Sprintf("%s did not emulate: %s", p.Label, strings.Join(parts, ", "))))
	}
}

// Fault is what a failed attempt says, gathered over the panes that say the
// same.
type Fault struct {
	verdict verdict.Verdict
	test    string
	tests   int // how many it is true of
	panes   []string
	step    string
	message string
	shots   []string
}

// FaultsOf explains every test that did not simply pass.
func FaultsOf(run api.Run, detail func(test int) (api.TestResult, error), base string) ([]Fault, error) {
	var out []Fault
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
			same := slices.IndexFunc(out, func(o Fault) bool {
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
	slices.SortStableFunc(out, func(a, b Fault) int {
		return slices.Index(verdict.All, a.verdict) - slices.Index(verdict.All, b.verdict)
	})
	return out, nil
}

func faultOf(test, pane string, r api.PaneAttempts, base string) Fault {
	f := Fault{verdict: r.Cell.Verdict, test: test, tests: 1, panes: []string{pane}, message: r.Cell.Message}
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

// Faults writes each fault with where to read on.
func Faults(w io.Writer, faults []Fault) {
	for _, f := range faults {
		what := f.test
		if f.verdict == verdict.Unsupported {
			what = fmt.Sprintf("%d tests", f.tests)
		}
		fmt.Fprintf(w, "\n%s %s\n", Paint(f.verdict, Shapes[f.verdict]+" "+f.verdict.Words()), lipgloss.NewStyle().Bold(true).Render(what))
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
			fmt.Fprintln(w, head+Faint(s))
		}
	}
}
