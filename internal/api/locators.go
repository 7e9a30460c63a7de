package api

import (
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/triage"
)

// AgedLocators are the locators of a run that find nothing any more.
type AgedLocators struct {
	Run      int           `json:"run"`
	Locators []AgedLocator `json:"locators" description:"by file and line"`
	Patch    string        `json:"patch" description:"a unified diff that puts the new locators into the files; for patch -p1 or git apply"`
	Left     []string      `json:"left" description:"what the patch leaves alone, with the reason"`
}

// AgedLocator is one of them, over all tests and panes in which it found nothing.
type AgedLocator struct {
	At       source.Position `json:"at"`
	Was      string          `json:"was" description:"as the script has it"`
	Now      string          `json:"now" description:"a locator that finds the likeliest element alone; empty when there is none"`
	Also     []string        `json:"also" description:"what was proposed in other panes"`
	Element  string          `json:"element"`
	Sure     float64         `json:"sure" description:"how likely it is the same element, from 0 to 1: where it is least sure"`
	Next     float64         `json:"next" description:"how likely the next one was"`
	Same     []string        `json:"same" description:"what of the element is as it was"`
	Other    []string        `json:"other" description:"what is not"`
	Accepted int             `json:"accepted" description:"cells that went on with the element"`
	Failed   int             `json:"failed" description:"cells that failed for want of it"`
	Cells    []triage.At     `json:"cells"`
	Tests    []string        `json:"tests"`
}

// Brittle is a locator that will break before the page changes for those who use it.
type Brittle struct {
	At     source.Position `json:"at"`
	Test   string          `json:"test"`
	Was    string          `json:"was"`
	Why    string          `json:"why"`
	Better string          `json:"better" description:"one that found the element alone when the test last passed; empty: none is known"`
}

// BetterFilter says of which suite better locators are asked for.
type BetterFilter struct {
	Project string `query:"project" json:"-" required:"true"`
	Suite   string `query:"suite" json:"-" required:"true"`
}

// Better is a locator that a passing test has met in place of a brittle one.
type Better struct {
	Test   string          `json:"test"`
	Place  string          `json:"place" description:"of the brittle one in its test, by what it says"`
	At     source.Position `json:"at"`
	Better string          `json:"better"`
	Run    int             `json:"run" description:"in which it was met"`
}
