package report

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"iter"
	"strings"
	"time"
	"unicode/utf8"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

//go:embed page.html
var pageHTML string

//go:embed page.js
var pageScript string

var (
	pageTemplate = template.Must(template.New("page").Parse(pageHTML))
	pageHash     = func() string {
		sum := sha256.Sum256([]byte(pageScript))
		return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
	}()
)

// Page is what a page of its own says of a run.
type Page struct {
	Run     api.Run
	Causes  api.Causes
	Address string // of the run in the console; "" leaves it out
	// Picture is what the page of a cell showed when it failed, and of which media type; nil
	// where nothing was kept. It is asked for as far as the room goes. May be nil.
	Picture func(pane, test int) (body []byte, media string)
	At      time.Time
	// Printed is of a page that is going to be printed: its pictures are there from the start.
	Printed bool
}

// Bounds of a page: pictures, their bytes, and failures that are told one by one.
const (
	MaxPictures     = 100
	maxPictureBytes = 14 << 20
	maxToldFailures = 1_000
	maxNameWide     = 56 // characters of a test's name that the wall has room for
)

type pageCause struct {
	What, How, Kind, Reason, News string
	Seen                          []string
}

type pageTest struct {
	Name  string
	Bad   bool
	Cells template.HTML
}

type pageFailure struct {
	Class, Sign, Test, Verdict, Pane, Ran, Message string
	Picture                                        template.URL
}

type pageLegend struct{ Class, Sign, Name string }

// HTML writes a run as one page that needs nothing else: with its causes, its wall, what
// did not pass with pictures, and filters. It opens without a network, and says so to the
// browser: what it contains can neither fetch anything nor run a script of its own.
func HTML(w io.Writer, p Page) error {
	out := bufio.NewWriterSize(w, 64<<10)
	run := p.Run
	words := Words(run, p.Causes, p.Address)
	bad := 0
	for i := range run.Cells {
		for _, c := range run.Cells[i] {
			if told(c) {
				bad++
			}
		}
	}
	left := ""
	if bad > maxToldFailures {
		left = fmt.Sprintf("%d more did not pass: the wall has them.", bad-maxToldFailures)
	}
	names := 8
	for _, t := range run.Tests {
		names = max(names, min(utf8.RuneCountInString(Clip(t.Name)), maxNameWide))
	}
	var panes []string
	for _, x := range run.Panes {
		panes = append(panes, Clip(x.Label))
	}
	err := pageTemplate.Execute(out, map[string]any{
		"Words": words, "Address": p.Address, "Facts": facts(run), "Causes": pageCauses(p.Causes.Causes), "Legend": legend(run),
		"Wall":  counted(len(run.Tests), "test") + " on " + counted(len(run.Panes), "combination"),
		"Names": names, "Lazy": !p.Printed, "Panes": panes, "Tests": pageTests(run), "Failures": p.failures(), "Any": bad > 0, "Left": left,
		"Script": template.JS(pageScript), "ScriptHash": pageHash,
		"Foot": "Written by Parallel Pane, " + p.At.UTC().Format("2 January 2006 15:04 MST"),
	})
	if err == nil {
		err = out.Flush()
	}
	if err != nil {
		return fmt.Errorf("write HTML: %w", err)
	}
	return nil
}

// told reports whether a cell is among what did not pass.
func told(c api.Cell) bool {
	switch c.Verdict {
	case verdict.Passed, verdict.Skipped, verdict.Unsupported, verdict.Pending:
		return false
	}
	return c.State != api.Undealt
}

func facts(run api.Run) (out []string) {
	for _, f := range [][2]string{{"at ", run.Base}, {"by ", run.By}} {
		if f[1] != "" {
			out = append(out, f[0]+Clip(f[1]))
		}
	}
	if run.CreatedAt != nil {
		out = append(out, run.CreatedAt.UTC().Format("2 January 2006 15:04 MST"))
	}
	if run.StartedAt != nil && run.EndedAt != nil {
		out = append(out, "in "+run.EndedAt.Sub(*run.StartedAt).Round(100*time.Millisecond).String())
	}
	return out
}

func pageCauses(all []api.Cause) (out []pageCause) {
	for _, c := range all {
		x := pageCause{What: Clip(c.Sentence), Kind: string(c.Kind), Reason: Clip(c.Reason)}
		if i := strings.LastIndex(x.What, ": fails in "); i >= 0 {
			x.What, x.How = x.What[:i], x.What[i+2:]+"."
		}
		var news strings.Builder
		for _, p := range itemOf(c)[2:] {
			news.WriteString(p.text)
		}
		x.News = Clip(strings.TrimPrefix(news.String(), "; "))
		for _, e := range c.Evidence[:min(len(c.Evidence), 3)] {
			x.Seen = append(x.Seen, Clip(e.Text))
		}
		out = append(out, x)
	}
	return out
}

// classes are the letters of verdicts that colour them.
var classes = map[verdict.Verdict]string{verdict.Passed: "p", verdict.Failed: "f", verdict.Flaky: "y", verdict.LabFault: "l",
	verdict.Aside: "a"}

func classOf(v verdict.Verdict) string { return cmp.Or(classes[v], "n") }

func legend(run api.Run) (out []pageLegend) {
	for _, v := range verdict.All {
		if n := run.Counts[v]; n > 0 {
			out = append(out, pageLegend{classOf(v), sign(v), fmt.Sprintf("%d %s", n, v.Words())})
		}
	}
	return out
}

func pageTests(run api.Run) iter.Seq[pageTest] {
	return func(yield func(pageTest) bool) {
		var b strings.Builder
		for j, t := range run.Tests {
			b.Reset()
			x := pageTest{Name: Clip(t.Name)}
			for i := range run.Panes {
				c := run.Cells[i][j]
				if c.State == api.Undealt {
					b.WriteString("<td>")
					continue
				}
				x.Bad = x.Bad || told(c)
				b.WriteString("<td class=")
				b.WriteString(classOf(c.Verdict))
				b.WriteByte('>')
				b.WriteString(sign(c.Verdict))
			}
			x.Cells = template.HTML(b.String())
			if !yield(x) {
				return
			}
		}
	}
}

func (p Page) failures() iter.Seq[pageFailure] {
	return func(yield func(pageFailure) bool) {
		n, pictures, room := 0, 0, maxPictureBytes
		for j, t := range p.Run.Tests {
			for i, pane := range p.Run.Panes {
				c := p.Run.Cells[i][j]
				if !told(c) {
					continue
				}
				if n++; n > maxToldFailures {
					return
				}
				x := pageFailure{Class: classOf(c.Verdict), Sign: sign(c.Verdict), Test: Clip(t.Name), Verdict: c.Verdict.Words(),
					Pane: Clip(pane.Label),
					Ran:  Clip(strings.TrimSpace(pane.Info.Browser + " " + pane.Info.Version)), Message: sheetText(cmp.Or(c.Message, c.Why))}
				if p.Picture != nil && pictures < MaxPictures {
					if body, media := p.Picture(i, j); body != nil && len(body) <= room {
						pictures, room = pictures+1, room-len(body)
						x.Picture = template.URL("data:" + media + ";base64," + base64.StdEncoding.EncodeToString(body))
					}
				}
				if !yield(x) {
					return
				}
			}
		}
	}
}
