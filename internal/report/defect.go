package report

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"parallelpane/internal/api"
)

// maxPlaces bounds the combinations and tests that a defect names.
const maxPlaces = 20

// Known is what is known of a cause, by the names under which a tracker's form may ask for
// it: title, description, markdown, project, suite, environment, run, test, tests,
// combinations, cause, kind, step, message, first_seen, last_seen, times, link, links and
// pictures. link makes an address in the console; it returns "" where that is not known.
func Known(p api.CausePage, link func(format string, args ...any) string) map[string]any {
	c := p.Cause
	known := map[string]any{"title": Clip(c.Title), "project": p.Run.Project, "suite": p.Run.Suite, "environment": p.Run.Environment,
		"run": p.Run.Number, "tests": few(c.Tests), "combinations": few(c.Panes), "cause": Clip(c.Sentence), "kind": string(c.Kind),
		"message": Lines(c.Message)}
	if len(c.Tests) > 0 {
		known["test"] = Clip(c.Tests[0])
	}
	if p.Step != "" {
		known["step"] = Clip(p.Step)
		if p.File != "" {
			known["step"] = fmt.Sprintf("%s (%s:%d)", Clip(p.Step), Clip(p.File), p.Line)
		}
	}
	known["times"] = times(c, known)
	var links, shots []string
	if at := link("/runs/%d/causes/%s", p.Run.Number, c.ID); at != "" {
		links = append(links, at, link("/runs/%d", p.Run.Number))
		for _, s := range p.Pictures {
			shots = append(shots, link("/api/v1/attempts/%s/files/%s", url.PathEscape(s.Attempt), url.PathEscape(s.Name)))
		}
		known["link"] = links[0]
	}
	known["links"], known["pictures"] = links, shots
	known["description"] = described(known, func(head, text string) string { return head + ":\n" + text + "\n" }, indented)
	known["markdown"] = described(known, func(head, text string) string { return "**" + head + "**\n\n" + text + "\n" }, fenced)
	return known
}

// times says since when a cause is there, and puts the days among what is known.
func times(c api.Cause, known map[string]any) string {
	out := fmt.Sprintf("in %s of its suite", counted(c.Runs, "run"))
	seen := func(name string, s *api.CauseSeen) string {
		if s == nil || s.At == nil {
			return ""
		}
		known[name] = s.At.UTC().Format(time.RFC3339)
		return fmt.Sprintf("#%d on %s", s.Run, s.At.UTC().Format("2 January 2006 15:04 UTC"))
	}
	if first := seen("first_seen", c.First); first != "" {
		out += ", first in " + first
	}
	if last := seen("last_seen", c.Last); last != "" {
		out += ", last in " + last
	}
	return out
}

func few(all []string) []string {
	out := make([]string, 0, min(len(all), maxPlaces+1))
	for _, s := range all[:min(len(all), maxPlaces)] {
		out = append(out, Clip(s))
	}
	if n := len(all) - maxPlaces; n > 0 {
		out = append(out, fmt.Sprintf("and %d more", n))
	}
	return out
}

// maxLines bounds a message in a defect, in characters.
const maxLines = 4000

// Lines is a text of several lines without what would act on whatever shows it.
func Lines(s string) string {
	parts := strings.Split(strings.ToValidUTF8(s, "\uFFFD"), "\n")
	for i, p := range parts {
		parts[i] = strings.TrimRight(strings.Map(tame, p), " ")
	}
	s = strings.TrimSpace(strings.Join(parts, "\n"))
	if r := []rune(s); len(r) > maxLines {
		return string(r[:maxLines-1]) + "…"
	}
	return s
}

// described puts what is known into one text; part makes a part of it under a heading, and
// verbatim what a message says.
func described(known map[string]any, part func(head, text string) string, verbatim func(string) string) string {
	var b strings.Builder
	add := func(head, name string) {
		switch v := known[name].(type) {
		case string:
			if name == "message" && v != "" {
				v = verbatim(v)
			}
			if v != "" {
				b.WriteString(part(head, v) + "\n")
			}
		case []string:
			if len(v) > 0 {
				b.WriteString(part(head, "- "+strings.Join(v, "\n- ")) + "\n")
			}
		}
	}
	add("Cause", "cause")
	add("What it says", "message")
	add("Step", "step")
	add("Tests", "tests")
	add("Combinations", "combinations")
	add("Seen", "times")
	add("Environment", "environment")
	add("To be read at", "links")
	return strings.TrimSpace(b.String()) + "\n"
}

func indented(s string) string { return "    " + strings.ReplaceAll(s, "\n", "\n    ") }

func fenced(s string) string {
	fence := "```"
	for strings.Contains(s, fence) {
		fence += "`"
	}
	return fence + "\n" + s + "\n" + fence
}
