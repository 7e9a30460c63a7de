package report

import (
	"fmt"
	"html"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// maxCauses bounds the causes that a run's words name.
const maxCauses = 5

// part is a piece of a line: a text with what it leads to and how much it matters.
type part struct {
	text   string
	link   string
	strong bool
}

func said(format string, args ...any) part { return part{text: fmt.Sprintf(format, args...)} }

// Words says in a few lines what became of a run, for pasting: as text, Markdown and HTML,
// which say the same. address is the run's in the console; "" leaves it out. Every mail,
// webhook and summary takes its words from here.
func Words(run api.Run, causes api.Causes, address string) api.Words {
	head := headOf(run, address)
	var items [][]part
	for _, c := range causes.Causes[:min(maxCauses, len(causes.Causes))] {
		items = append(items, itemOf(c))
	}
	if n := len(causes.Causes) - maxCauses; n > 0 {
		cells := 0
		for _, c := range causes.Causes[maxCauses:] {
			cells += c.Failed
		}
		items = append(items, []part{said("%d because of %s", cells, counted(n, "further cause"))})
	}
	return api.Words{Title: plainOf(head), Text: textOf(head, items, address), Markdown: markdownOf(head, items), HTML: htmlOf(head, items)}
}

func headOf(run api.Run, address string) []part {
	name := strings.TrimSpace(run.Project + " " + run.Suite)
	if run.Matrix != "" {
		name += " on " + run.Matrix
	}
	if run.Environment != "" {
		name += " (" + run.Environment + ")"
	}
	return append([]part{{text: fmt.Sprintf("#%d", run.Number), link: address}, said(" %s: ", name)}, cameTo(run)...)
}

// cameTo says what the tests of a run came to.
func cameTo(run api.Run) []part {
	total, c := run.Counts.Total(), run.Counts
	open := c[verdict.Pending]
	head := ""
	switch {
	case total == 0:
		head = "no tests"
	case c[verdict.Failed] > 0:
		head = fmt.Sprintf("%d of %d failed", c[verdict.Failed], total)
	case c[verdict.Passed] == total:
		head = fmt.Sprintf("all %d passed", total)
	default:
		head = fmt.Sprintf("%d of %d passed", c[verdict.Passed], total)
	}
	out := []part{{text: head, strong: true}}
	for _, v := range []verdict.Verdict{verdict.LabFault, verdict.Flaky, verdict.Aside, verdict.Ended, verdict.Unsupported, verdict.Skipped} {
		if n := c[v]; n == 1 && v == verdict.LabFault {
			out = append(out, said(", 1 lab fault"))
		} else if n > 0 && v == verdict.LabFault {
			out = append(out, said(", %d lab faults", n))
		} else if n > 0 {
			out = append(out, said(", %d %s", n, v.Words()))
		}
	}
	if open > 0 {
		out = append(out, said(", %d still open", open))
	}
	if run.Why != "" {
		out = append(out, said("; %s", run.Why))
	}
	return out
}

func itemOf(c api.Cause) []part {
	out := []part{said("%d because of ", c.Failed), {text: c.Sentence, strong: true}}
	switch {
	case c.News == api.NewCause && c.First != nil && c.SinceGreen:
		out = append(out, said("; new since the last green run"))
	case c.News == api.NewCause:
		out = append(out, said("; new"))
	case c.News == api.BackAgain && c.First != nil:
		out = append(out, said("; back again, first seen in #%d", c.First.Run))
	case c.First != nil && c.Runs > 1:
		out = append(out, said("; known since #%d", c.First.Run))
	}
	if d := c.Defect; d != nil && d.Key != "" {
		out = append(out, said("; "), part{text: d.Key, link: d.Link})
		if d.Status != "" {
			out = append(out, said(", %s", d.Status))
		}
	}
	return out
}

// maxSaid bounds one piece of the words, in characters.
const maxSaid = 400

// Clip makes a text of somebody's fit for a line: without what would act on whatever shows it,
// and of at most 400 characters.
func Clip(s string) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(strings.Map(tame, s), "\uFFFD")), " ")
	if r := []rune(s); len(r) > maxSaid {
		return string(r[:maxSaid-1]) + "…"
	}
	return s
}

// tame takes out what would act on whatever shows a text: control characters, and those
// that turn the direction of writing (Unicode TR 36, section 2.10).
func tame(r rune) rune {
	switch {
	case r == '\n' || r == '\t' || r == '\r':
		return ' '
	case r < 0x20 || r >= 0x7f && r < 0xa0, r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x200e || r == 0x200f:
		return '\uFFFD'
	}
	return r
}

// edges are the spaces around a piece, which clip takes away.
func edges(s, now string) string {
	if strings.HasPrefix(s, " ") {
		now = " " + now
	}
	if strings.HasSuffix(s, " ") && s != " " {
		now += " "
	}
	return now
}

func plainOf(parts []part) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString(edges(p.text, Clip(p.text)))
	}
	return b.String()
}

func textOf(head []part, items [][]part, address string) string {
	var b strings.Builder
	b.WriteString(plainOf(head))
	for _, i := range items {
		b.WriteString("\n- " + plainOf(i))
	}
	if address != "" {
		b.WriteString("\n" + address)
	}
	return b.String() + "\n"
}

func markdownOf(head []part, items [][]part) string {
	line := func(parts []part) string {
		var b strings.Builder
		for _, p := range parts {
			text := escapes.Replace(Clip(p.text))
			switch {
			case p.link != "":
				text = "[" + text + "](" + inMarkdown.Replace(p.link) + ")"
			case p.strong:
				text = "**" + text + "**"
			}
			b.WriteString(edges(p.text, text))
		}
		return b.String()
	}
	out := line(head) + "\n"
	for i, x := range items {
		if i == 0 {
			out += "\n"
		}
		out += "- " + line(x) + "\n"
	}
	return out
}

// inMarkdown makes an address fit for between the brackets of a link.
var inMarkdown = strings.NewReplacer("(", "%28", ")", "%29", "<", "%3C", ">", "%3E", " ", "%20")

func htmlOf(head []part, items [][]part) string {
	line := func(parts []part) string {
		var b strings.Builder
		for _, p := range parts {
			text := html.EscapeString(Clip(p.text))
			switch {
			case p.link != "":
				text = `<a href="` + html.EscapeString(p.link) + `">` + text + "</a>"
			case p.strong:
				text = "<strong>" + text + "</strong>"
			}
			b.WriteString(edges(p.text, text))
		}
		return b.String()
	}
	out := "<p>" + line(head) + "</p>\n"
	if len(items) > 0 {
		out += "<ul>\n"
		for _, i := range items {
			out += "<li>" + line(i) + "</li>\n"
		}
		out += "</ul>\n"
	}
	return out
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
