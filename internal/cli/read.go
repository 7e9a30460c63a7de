package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/core/outcome"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/term"
)

// fileRead is what one file says, with its name.
type fileRead struct {
	File string `json:"file"`
	outcome.Report
	Counts verdict.Counts `json:"counts"`
}

func (r *root) readCmd() *cobra.Command {
	return &cobra.Command{
		Use: "read FILE…", Short: "Show what result files of test programs say: JUnit XML, TAP", Args: cobra.MinimumNArgs(1),
		Long: "Show what result files say, as a command suite's are read: JUnit XML, or TAP 13 and 14; - reads the standard input.\n\n" +
			"Exit code: 0 all passed, 1 tests failed or a file is cut short, 2 a file has no tests that can be read.",
		RunE: func(_ *cobra.Command, args []string) error { return r.read(args) },
	}
}

func (r *root) read(files []string) error {
	var all []fileRead
	failed, unread := false, ""
	for _, name := range files {
		src, err := readFile(name, outcome.MaxFile)
		if err != nil {
			return usage("%v", err)
		}
		f := fileRead{File: name, Report: outcome.Read(src, time.Local)}
		f.Counts = f.Report.Counts()
		failed = failed || f.Counts[verdict.Failed] > 0 || f.Cut
		if f.Form == "" || len(f.Tests) == 0 && len(f.Problems) > 0 {
			unread = name
		}
		all = append(all, f)
	}
	if r.json {
		if err := r.writeJSON(all); err != nil {
			return err
		}
	} else {
		for i, f := range all {
			if i > 0 {
				fmt.Fprintln(r.out)
			}
			r.writeRead(f)
		}
	}
	switch {
	case unread != "":
		return &exitError{verdict.ExitUsage, errors.New(unread + " has no tests that can be read")}
	case failed:
		return &exitError{verdict.ExitFailed, nil}
	}
	return nil
}

// readFile reads a file, or the standard input by -, up to a byte more than may be.
func readFile(name string, most int64) ([]byte, error) {
	in := io.Reader(os.Stdin)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	return io.ReadAll(io.LimitReader(in, most+1))
}

func (r *root) writeRead(f fileRead) {
	var counts []string
	for _, v := range verdict.All {
		if n := f.Counts[v]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, v))
		}
	}
	if len(counts) == 0 {
		counts = []string{"no tests"}
	}
	fmt.Fprintf(r.out, "%s: %s\n", f.File, strings.Join(counts, ", "))
	if len(f.Tests) > 0 {
		t := term.NewTable("test", "verdict", "took")
		for _, x := range f.Tests {
			name := x.Name
			if x.Suite != "" {
				name = term.Faint(x.Suite+" › ") + name
			}
			if x.Message != "" {
				name += "\n" + term.Faint("  "+firstLine(x.Message, 100))
			}
			took := "–"
			if x.Seconds > 0 {
				took = fmt.Sprintf("%.3g s", x.Seconds)
			}
			t.Row(name, term.Paint(x.Verdict, string(x.Verdict)), took)
		}
		fmt.Fprintln(r.out, t)
	}
	for _, p := range f.Problems {
		fmt.Fprintf(r.out, "%s:%s\n", f.File, p)
	}
}

// firstLine is the beginning of a text in one line.
func firstLine(s string, most int) string {
	s, _, _ = strings.Cut(s, "\n")
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return s
}
