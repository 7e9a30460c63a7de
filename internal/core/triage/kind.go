package triage

import (
	"regexp"

	"parallelpane/internal/core/verdict"
)

// Kind is whose fault a cause probably is.
type Kind string

// The kinds.
const (
	Product Kind = "product"
	Suite   Kind = "test"
	Lab     Kind = "lab"
)

// Signs of a kind, in what a failure says; the first that matches counts.
var signs = []struct {
	form   *regexp.Regexp
	kind   Kind
	reason string
}{
	{regexp.MustCompile(`(?i)invalid session id|session (?:deleted|not created)|disconnected from|browser (?:has )?(?:crashed|closed|died)|` +
		`tab crashed|target (?:crashed|closed)|driver (?:has )?(?:gone|died|crashed)|chrome not reachable`), Lab,
		"the browser or its driver went away"},
	{regexp.MustCompile(`(?i)ECONNREFUSED|ECONNRESET|EHOSTUNREACH|ENETUNREACH|ENOTFOUND|connection refused|connection reset|` +
		`no route to host|not reachable|name or service not known|ERR_(?:CONNECTION|NAME|ADDRESS|INTERNET|NETWORK)|about:neterror`), Lab,
		"a place could not be reached"},
	{regexp.MustCompile(`(?i)no space left|ENOSPC|cannot allocate memory|ENOMEM|too many open files|EMFILE|out of memory`), Lab,
		"the machine ran out of something"},
	{regexp.MustCompile(`(?i)is not defined\b|is not a function|is not a constructor|undefined is not an object|null is not an object|` +
		`can(?:'|no)t (?:find variable|read propert)|is undefined\b|\bReferenceError\b|\bTypeError\b|` +
		`\bSyntaxError\b|unsupported pseudo`), Product,
		"a script of the page failed"},
	{regexp.MustCompile(`(?i)\b(?:http )?(?:status(?: code)?|answered|response)[: ]+5\d\d\b|` +
		`internal server error|bad gateway|service unavailable`),
		Product, "the site answered with an error"},
	{regexp.MustCompile(`(?i)\d+ elements? match(?:es)?, none visible|not visible|is hidden|not interactable|` +
		`element .* obscures|other element would receive|` +
		`click intercepted`), Suite, "the locator finds an element that is hidden or covered here"},
	{regexp.MustCompile(`(?i)\b(?:[2-9]|\d\d+) elements match|ambiguous|strict mode|more than one element`), Suite,
		"the locator finds several elements"},
	{regexp.MustCompile(`(?i)stale element`), Suite, "the element was replaced between finding and using it"},
	{regexp.MustCompile(`(?i)no (?:such )?element|unable to locate|could not find (?:the )?element|no element matches|` +
		`element not found`), Suite,
		"the locator finds nothing here"},
	{regexp.MustCompile(`(?i)FileNotFound|no such file|ENOENT|KeyError|no row|fixture`), Suite, "data that the test needs is not there"},
	{regexp.MustCompile(`(?i)timed? ?out|deadline exceeded|waited too long|within \d`), Suite,
		"a wait was too short, or what it waited for never came"},
}

// kind proposes whose fault a cause is, with the reason.
func (s *search) kind(f *finding, c Cause) (Kind, string) {
	lab := 0
	for _, at := range f.cells {
		if s.run.Cells[at.Pane][at.Test].Verdict == verdict.LabFault {
			lab++
		}
	}
	switch {
	case lab == len(f.cells):
		return Lab, "the lab says so: nothing was learnt about the product"
	case f.sure && f.after >= 0:
		return Suite, "it depends on a test before it, which leaves something behind"
	case f.sure && f.agent >= 0:
		return Lab, "it comes with one agent, on which others' combinations run too"
	}
	if !f.several {
		for _, sign := range signs {
			if sign.form.MatchString(c.Message) {
				return sign.kind, sign.reason
			}
		}
	}
	if c.Flaky == c.Failed {
		return Suite, "it passed when run again: a wait too short, or a site that is sometimes late"
	}
	return Product, "the page showed something else than the test expects"
}
