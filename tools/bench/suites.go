package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"
)

// suites measures what it takes to read a result file of 50,000 cases.
func suites(ctx context.Context, pane string) ([]row, error) {
	dir, err := os.MkdirTemp("", "bench-suites-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "results.xml")
	if err := writeResults(file, 50_000); err != nil {
		return nil, err
	}
	var took []time.Duration
	peak := 0.0
	for range 5 {
		c := exec.CommandContext(ctx, pane, "read", "--json", file)
		began := time.Now()
		if err := c.Run(); err != nil && c.ProcessState.ExitCode() != 1 { // some of the cases failed
			return nil, fmt.Errorf("pane read: %w", err)
		}
		took = append(took, time.Since(began))
		if u, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok && runtime.GOOS == "linux" {
			peak = max(peak, float64(u.Maxrss)/1024)
		}
	}
	large, err := largeBundle(ctx)
	if err != nil {
		return nil, err
	}
	return append([]row{
		{"pane read --json of JUnit XML with 50,000 cases (median of 5)", fmt.Sprintf("%d ms", median(took).Milliseconds()), "1000 ms"},
		{"the same: resident at most", fmt.Sprintf("%.0f MB", peak), "100 MB"},
	}, large...), nil
}

func writeResults(file string, cases int) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	fmt.Fprintf(w, `<testsuites><testsuite name="berths" timestamp="2026-11-26T09:00:00">`)
	for i := range cases {
		fmt.Fprintf(w, `<testcase classname="harbour.berths" name="berth %d" time="0.01">`, i)
		if i%50 == 0 {
			fmt.Fprintf(w, `<failure message="expected free, found held">at berths.js:%d:7</failure>`, i)
		}
		fmt.Fprint(w, "</testcase>\n")
	}
	fmt.Fprint(w, "</testsuite></testsuites>\n")
	return w.Flush()
}
