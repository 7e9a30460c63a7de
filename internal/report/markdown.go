package report

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// maxRows bounds the tests that a summary lists.
const maxRows = 200

// Markdown writes a run as a page for the summary of a CI job: its words, its panes, and
// the tests that did not pass, each with where and why. address is the run's in the
// console. Texts of tests are only text in it, whatever they contain.
func Markdown(w io.Writer, run api.Run, causes api.Causes, address string) error {
	out := bufio.NewWriter(w)
	fmt.Fprintf(out, "# %s %s\n", sign(run.Verdict), Words(run, causes, address).Markdown)
	if run.State != api.Ended {
		fmt.Fprintf(out, "The run is %s. ", run.State)
	}
	if run.Base != "" {
		fmt.Fprintf(out, "At %s, by %s", plain(run.Base), plain(run.By))
	} else {
		fmt.Fprintf(out, "By %s", plain(run.By))
	}
	if run.StartedAt != nil && run.EndedAt != nil {
		fmt.Fprintf(out, ", in %s", run.EndedAt.Sub(*run.StartedAt).Round(100*time.Millisecond))
	}
	out.WriteString("\n\n| combination | | tests | time |\n| --- | --- | --- | --- |\n")
	for _, p := range run.Panes {
		fmt.Fprintf(out, "| %s | %s %s | %s | %.1f s |\n", plain(p.Label), sign(p.Verdict), p.Verdict.Words(), counts(p.Counts),
			float64(p.TookMS)/1000)
	}
	rows := faults(run)
	if len(rows) > 0 {
		out.WriteString("\n## What did not pass\n\n| test | | on | why |\n| --- | --- | --- | --- |\n")
	}
	for _, r := range rows[:min(len(rows), maxRows)] {
		fmt.Fprintf(out, "| [%s](%s/tests/%d) | %s %s | %s | %s |\n", plain(run.Tests[r.test].Name), address, r.test, sign(r.verdict),
			r.verdict.Words(), plain(strings.Join(r.on, ", ")), plain(r.why))
	}
	if n := len(rows) - maxRows; n > 0 {
		fmt.Fprintf(out, "\nand %d more.\n", n)
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("write Markdown: %w", err)
	}
	return nil
}

// fault is a test with one verdict and reason, and the panes that have both.
type fault struct {
	test    int
	verdict verdict.Verdict
	why     string
	on      []string
}

func faults(run api.Run) (out []fault) {
	for test := range run.Tests {
		from := len(out)
		for i, p := range run.Panes {
			c := run.Cells[i][test]
			switch c.Verdict {
			case verdict.Passed, verdict.Skipped, verdict.Pending:
				continue
			}
			why := c.Message
			if c.Why != "" {
				why = c.Why
			}
			why, _, _ = strings.Cut(strings.TrimSpace(why), "\n")
			k := slices.IndexFunc(out[from:], func(f fault) bool { return f.verdict == c.Verdict && f.why == why })
			if k < 0 {
				out = append(out, fault{test: test, verdict: c.Verdict, why: why})
				k = len(out) - 1 - from
			}
			out[from+k].on = append(out[from+k].on, p.Label)
		}
	}
	return out
}

// sign is the shape of a verdict in one character, as terminals have it.
func sign(v verdict.Verdict) string {
	switch v {
	case verdict.Passed:
		return "■"
	case verdict.Failed:
		return "◩"
	case verdict.Flaky:
		return "◧"
	case verdict.Aside:
		return "◪"
	case verdict.LabFault:
		return "▨"
	}
	return "·"
}

func counts(c verdict.Counts) string {
	var parts []string
	for _, v := range verdict.All {
		if c[v] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c[v], v.Words()))
		}
	}
	return strings.Join(parts, ", ")
}

var escapes = strings.NewReplacer("\\", "\\\\", "`", "\\`", "*", "\\*", "_", "\\_", "[", "\\[", "]", "\\]",
	"<", "&lt;", ">", "&gt;", "&", "&amp;",
	"|", "\\|", "#", "\\#", "!", "\\!", "\r", " ", "\n", " ", "\t", " ", "~", "\\~", "@", "&#64;", "://", "&#58;//")

// plain is a text in which nothing has a meaning of Markdown's or HTML's, at most 300
// characters of it.
func plain(s string) string {
	if r := []rune(s); len(r) > 300 {
		s = string(r[:299]) + "…"
	}
	return escapes.Replace(strings.ToValidUTF8(s, "\uFFFD"))
}
