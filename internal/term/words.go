package term

import (
	"fmt"
	"strings"
	"time"

	"parallelpane/internal/core/verdict"
)

// Took writes a time for people: 340 ms, 4.1 s, 2 m 05 s.
func Took(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d m %02d s", int(d.Minutes()), int(d.Seconds())%60)
}

// Millis is Took of milliseconds.
func Millis(ms int64) string { return Took(time.Duration(ms) * time.Millisecond) }

// Number is a number of things: "1 test", "2 tests".
func Number(n int, thing string) string {
	if n != 1 {
		thing += "s"
	}
	return fmt.Sprintf("%d %s", n, thing)
}

// Counts writes how many tests ended how: "12 passed, 2 failed".
func Counts(c verdict.Counts) string {
	var parts []string
	for _, v := range []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Flaky, verdict.LabFault, verdict.Aside, verdict.Ended,
		verdict.Unsupported, verdict.Skipped} {
		if c[v] > 0 {
			parts = append(parts, Paint(v, fmt.Sprintf("%d %s", c[v], v.Words())))
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
