package api

import (
	"time"

	"parallelpane/internal/core/triage"
)

// News is what is new of a cause.
type News string

// The news.
const (
	NewCause   News = "new"   // no earlier run of the suite had it
	KnownCause News = "known" // the run before had it too
	BackAgain  News = "back"  // earlier runs had it, the run before had not
)

// Causes says what the failures of a run come from.
type Causes struct {
	Run    int     `json:"run"`
	Ended  bool    `json:"ended" description:"false while the run goes on: more may come"`
	Before int     `json:"before" description:"the run of the suite before it; 0 for none"`
	Green  int     `json:"green" description:"the last run of the suite before it in which nothing failed; 0 for none"`
	Failed int     `json:"failed" description:"cells that failed, were flaky or lab faults: together those of all causes"`
	Causes []Cause `json:"causes" description:"the weightiest first"`
}

// Cause is one of them.
type Cause struct {
	triage.Cause
	News  News       `json:"news"`
	First *CauseSeen `json:"first" description:"the first run of the suite that had it; null where that is not on record"`
	Last  *CauseSeen `json:"last" description:"the newest run of the suite that had it"`
	Runs  int        `json:"runs" description:"runs of the suite that had it"`
	// Fresh: it was not there at the last green run, nor before.
	SinceGreen bool    `json:"since_green" description:"it came after the last green run"`
	Defect     *Defect `json:"defect" description:"that was filed of it; null for none"`
}

// CauseSeen is a run that had a cause.
type CauseSeen struct {
	Run    int        `json:"run"`
	At     *time.Time `json:"at"`
	Bundle string     `json:"bundle" description:"SHA-256; of the first run only"`
}

// UnsteadyFilter narrows the list of unsteady tests.
type UnsteadyFilter struct {
	Project string `query:"project" json:"-"`
	Suite   string `query:"suite" json:"-"`
	Runs    int    `query:"runs" json:"-" description:"how many of a suite's runs are looked at; 30 if not given, 200 at most"`
	Text    string `query:"text" json:"-" description:"found in the test's name"`

	Among []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// UnsteadyTest is a test whose verdict changes without its files, the worst first.
type UnsteadyTest struct {
	Project string         `json:"project"`
	Suite   string         `json:"suite"`
	Test    string         `json:"test"`
	Runs    int            `json:"runs" description:"of the suite that were looked at"`
	WasteMS int64          `json:"waste_ms" description:"slot time that its unsteadiness took, over all combinations"`
	Trigger string         `json:"trigger" description:"what sets it off, where that is certain; else empty"`
	In      []UnsteadyPane `json:"in" description:"the combinations in which it is unsteady, the worst first"`
	Steady  int            `json:"steady" description:"combinations in which it is steady"`
}

// UnsteadyPane is how unsteady a test is in one combination.
type UnsteadyPane struct {
	Label string `json:"label"`
	Key   string `json:"key"`
	triage.Unsteady
	Pane  int    `json:"pane" description:"of the last run in which it was off"`
	Place int    `json:"place" description:"of the test in that run"`
	Strip string `json:"strip" description:"its runs, oldest first, a letter each: p passed, f failed, y flaky, l lab fault"`
}
