package term

import (
	"fmt"
	"io"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
)

// StepVerdicts are the verdicts whose shapes stand for the states of steps.
var StepVerdicts = map[attempt.State]verdict.Verdict{attempt.Passed: verdict.Passed, attempt.Failed: verdict.Failed,
	attempt.LabFault: verdict.LabFault, attempt.Skipped: verdict.Skipped, attempt.Unrun: verdict.Pending}

// mostDifferences bounds how many differences of pages are written.
const mostDifferences = 12

// Beside writes a test in two combinations.
func Beside(w io.Writer, b api.Beside) {
	fmt.Fprintf(w, "%s  %s\n\n", bold.Render(Tame(b.Test.Name)), Faint(fmt.Sprintf("run #%d; the combinations differ in %s", b.Run.Number,
		orNothing(b.Unlike))))
	fmt.Fprintln(w, Tame(b.Words))
	t := NewTable("", "Step", head(b.Left), head(b.Right))
	for i, row := range b.Rows {
		mark := ""
		if i == b.First {
			mark = "▶"
		}
		t.Row(mark, Tame(attempt.Clip(row.Title, 60)), step(row.L), step(row.R))
	}
	fmt.Fprintln(w, t)
	for _, s := range []struct{ side, message string }{{b.Left.Label, b.Left.Message}, {b.Right.Label, b.Right.Message}} {
		if s.message != "" {
			fmt.Fprintf(w, "%s: %s\n", bold.Render(s.side), strings.ReplaceAll(Tame(s.message), "\n", "\n  "))
		}
	}
	if b.At >= 0 {
		fmt.Fprintf(w, "\n%s\n", bold.Render(fmt.Sprintf("The page at step %d, on %s against %s", b.At+1, b.Left.Label, b.Right.Label)))
		for _, d := range b.Page[:min(len(b.Page), mostDifferences)] {
			fmt.Fprintf(w, "  %s %s\n", Tame(d.Element), Tame(d.Text))
		}
		switch n := len(b.Page); {
		case n == 0:
			fmt.Fprintln(w, "  has the same elements, in the same places.")
		case n > mostDifferences:
			fmt.Fprintln(w, Faint(fmt.Sprintf("  and %d differences more; --json has them", n-mostDifferences)))
		}
	} else {
		fmt.Fprintf(w, "\n%s\n", Faint(b.Why))
	}
	if len(b.Console) > 0 {
		fmt.Fprintf(w, "\n%s\n", bold.Render("Console"))
		for _, l := range b.Console[:min(len(b.Console), mostDifferences)] {
			fmt.Fprintf(w, "  %-8s %s\n", where(l.LeftMS >= 0, l.RightMS >= 0), Tame(attempt.Clip(l.Text, 200)))
		}
	}
	told := 0
	for _, q := range b.Requests {
		if q.Left == q.Right && q.Slow == "" {
			continue
		}
		if told++; told == 1 {
			fmt.Fprintf(w, "\n%s\n", bold.Render("Requests that differ"))
		}
		if told > mostDifferences {
			break
		}
		fmt.Fprintf(w, "  %-8s %s %s  %s\n", where(q.Left >= 0, q.Right >= 0), q.Method, Tame(q.Path), answers(q))
	}
	if len(b.Lacking) > 0 {
		fmt.Fprintf(w, "\n%s\n", Faint("Not kept, and not compared: "+strings.Join(b.Lacking, ", ")+"; --record keeps more"))
	}
	fmt.Fprintf(w, "\n%d requests, %s on %s and %s on %s\n", len(b.Requests), Millis(b.Left.TookMS), b.Left.Label, Millis(b.Right.TookMS),
		b.Right.Label)
}

func head(s api.BesideSide) string {
	return fmt.Sprintf("%s %s", Paint(s.Verdict, Shapes[s.Verdict]), s.Label)
}

func step(s *api.BesideStep) string {
	if s == nil {
		return Faint("has no such step")
	}
	v := StepVerdicts[s.State]
	text := fmt.Sprintf("%s %s", Paint(v, Shapes[v]), Millis(s.TookMS))
	if s.Matched != "" {
		text += "\n" + Faint(Tame(attempt.Clip(s.Matched, 44)))
	}
	return text
}

func answers(q api.BesideRequest) string {
	one := func(status int, ms float64) string {
		if status < 0 {
			return "not asked"
		}
		return fmt.Sprintf("%d in %.0f ms", status, ms)
	}
	return Faint(one(q.Left, q.LeftMS) + " | " + one(q.Right, q.RightMS))
}

func where(left, right bool) string {
	switch {
	case left && right:
		return "both"
	case left:
		return "left"
	}
	return "right"
}

func orNothing(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}
