// Package report writes runs in the forms that other programs read.
package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/verdict"
)

// The JUnit XML dialect that CI servers share: suites of cases, of which each
// may carry one failure, error or skipped element.
type junitSuites struct {
	XMLName  xml.Name     `xml:"testsuites"`
	Name     string       `xml:"name,attr"`
	Tests    int          `xml:"tests,attr"`
	Failures int          `xml:"failures,attr"`
	Errors   int          `xml:"errors,attr"`
	Skipped  int          `xml:"skipped,attr"`
	Time     string       `xml:"time,attr"`
	Suites   []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name       string          `xml:"name,attr"`
	Tests      int             `xml:"tests,attr"`
	Failures   int             `xml:"failures,attr"`
	Errors     int             `xml:"errors,attr"`
	Skipped    int             `xml:"skipped,attr"`
	Time       string          `xml:"time,attr"`
	Timestamp  string          `xml:"timestamp,attr,omitempty"`
	Properties []junitProperty `xml:"properties>property"`
	Cases      []junitCase     `xml:"testcase"`
}

type junitProperty struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

type junitCase struct {
	Name      string      `xml:"name,attr"`
	Class     string      `xml:"classname,attr"`
	File      string      `xml:"file,attr"`
	Time      string      `xml:"time,attr"`
	Failure   *junitFault `xml:"failure"`
	Error     *junitFault `xml:"error"`
	Skipped   *junitFault `xml:"skipped"`
	SystemOut string      `xml:"system-out,omitempty"`
}

type junitFault struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr,omitempty"`
	Text    string `xml:",chardata"`
}

func seconds(ms int64) string { return fmt.Sprintf("%.3f", float64(ms)/1000) }

// JUnit writes a run as JUnit XML: a test suite for each pane, a case for each
// test dealt to it. failed becomes a failure; a lab fault an error; skipped and unsupported are
// skipped; a flaky test has passed and says so in its output.
func JUnit(w io.Writer, run api.Run) error {
	out := junitSuites{Name: fmt.Sprintf("%s %s #%d", run.Project, run.Suite, run.Number)}
	var total int64
	for i, p := range run.Panes {
		s := junitSuite{Name: p.Label, Time: seconds(p.TookMS)}
		if run.StartedAt != nil {
			s.Timestamp = run.StartedAt.Format(time.RFC3339)
		}
		for _, axis := range (combo.Combination{Values: p.Values}).Names() {
			s.Properties = append(s.Properties, junitProperty{axis, p.Values[axis]})
		}
		total += p.TookMS
		for j, t := range run.Tests {
			cell := run.Cells[i][j]
			if cell.State == api.Undealt {
				continue
			}
			s.Tests++
			c := junitCase{Name: t.Name, Class: run.Suite + "." + strings.ReplaceAll(p.Label, ".", "_"), File: t.File, Time: seconds(cell.TookMS)}
			message := cell.Message
			if cell.Why != "" {
				message = cell.Why
			}
			headline, _, _ := strings.Cut(message, "\n")
			fault := &junitFault{Message: headline, Type: string(cell.Verdict), Text: message}
			switch cell.Verdict {
			case verdict.Failed:
				c.Failure = fault
				s.Failures++
			case verdict.LabFault, verdict.Pending:
				c.Error = fault
				s.Errors++
			case verdict.Ended: // the format has no word for it, and a pass it is not
				fault.Message = "ended: the session's runner never said how its test went"
				c.Skipped = fault
				s.Skipped++
			case verdict.Aside: // the format has no word for that either: it failed, and must not turn anything red
				c.SystemOut = "failed: " + cell.Message
				c.Skipped = fault
				s.Skipped++
			case verdict.Skipped, verdict.Unsupported:
				c.Skipped = fault
				s.Skipped++
			case verdict.Flaky:
				c.SystemOut = fmt.Sprintf("flaky: passed at attempt %d; before: %s", cell.Attempts, message)
			}
			s.Cases = append(s.Cases, c)
		}
		out.Tests += s.Tests
		out.Failures += s.Failures
		out.Errors += s.Errors
		out.Skipped += s.Skipped
		out.Suites = append(out.Suites, s)
	}
	out.Time = seconds(total)
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(w)
	enc.Indent("", "  ")
	if err := enc.Encode(out); err != nil {
		return fmt.Errorf("write JUnit: %w", err)
	}
	_, err := io.WriteString(w, "\n")
	return err
}
