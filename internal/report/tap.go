package report

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// TAP writes a run as TAP version 14: a point for each test in each pane that has it. Lab
// faults and failures are not ok; those that are set aside are so with a TODO; skipped and
// unsupported ones have a SKIP. A flaky one is ok and says so.
func TAP(w io.Writer, run api.Run) error {
	out := bufio.NewWriter(w)
	n := 0
	for i := range run.Cells {
		for _, c := range run.Cells[i] {
			if c.State != api.Undealt {
				n++
			}
		}
	}
	fmt.Fprintf(out, "TAP version 14\n1..%d\n", n)
	n = 0
	for i, p := range run.Panes {
		for j, c := range run.Cells[i] {
			if c.State == api.Undealt {
				continue
			}
			n++
			ok, directive := "ok", ""
			why := cmp.Or(c.Message, c.Why)
			switch c.Verdict {
			case verdict.Passed, verdict.Flaky, verdict.Ended:
			case verdict.Skipped, verdict.Unsupported:
				directive = " # SKIP " + tapText(why)
			case verdict.Aside:
				ok, directive = "not ok", " # TODO "+tapText(why)
			default:
				ok = "not ok"
			}
			fmt.Fprintf(out, "%s %d - %s › %s%s\n", ok, n, tapText(run.Tests[j].Name), tapText(p.Label), directive)
			if c.Verdict == verdict.Passed && c.Attempts <= 1 || directive != "" && c.Verdict != verdict.Aside {
				continue
			}
			fmt.Fprintf(out, "  ---\n  verdict: %s\n  attempts: %d\n  duration_ms: %d\n", cmp.Or(c.Verdict, "open"), c.Attempts, c.TookMS)
			if why != "" {
				fmt.Fprintf(out, "  message: %q\n", Clip(why))
			}
			out.WriteString("  ...\n")
		}
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("write TAP: %w", err)
	}
	return nil
}

// tapText is a text within a line, in which # begins nothing (TAP 14, Escaping).
func tapText(s string) string {
	return strings.NewReplacer(`\`, `\\`, "#", `\#`).Replace(Clip(s))
}
