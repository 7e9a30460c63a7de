package api

import (
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
)

// BesideFilter says which two panes of a test are put beside each other.
type BesideFilter struct {
	Left  string `query:"left" json:"-" description:"index, key or label of a pane; where the test failed, if not given"`
	Right string `query:"right" json:"-" description:"the same; the most alike pane in which the test passed, if not given"`
}

// Beside is a test in two panes of a run.
type Beside struct {
	Run      RunSummary            `json:"run"`
	Test     Test                  `json:"test"`
	Left     BesideSide            `json:"left"`
	Right    BesideSide            `json:"right"`
	Unlike   []string              `json:"unlike" description:"axes in which the combinations differ"`
	Rows     []BesideRow           `json:"rows"`
	First    int                   `json:"first" description:"the first row that differs in state or element; -1: none does"`
	Console  []BesideLine          `json:"console" description:"errors and warnings of the console, those of one side first"`
	Requests []BesideRequest       `json:"requests" description:"those that differ first"`
	At       int                   `json:"at" description:"the row of the pages that are compared; -1: none was kept of both"`
	Page     []likeness.Difference `json:"page" description:"in what the page differs on the left from the right"`
	Why      string                `json:"why" description:"why no pages are compared"`
	Lacking  []string              `json:"lacking" description:"what was not kept of one of them, and is not compared"`
	Others   []PaneGlanceAt        `json:"others" description:"the panes in which the test ran"`
	Words    string                `json:"words" description:"the first difference, in a sentence"`
}

// PaneGlanceAt is a pane and what a test came to in it.
type PaneGlanceAt struct {
	Pane    int             `json:"pane"`
	Label   string          `json:"label"`
	Verdict verdict.Verdict `json:"verdict"`
}

// BesideSide is the test in one pane.
type BesideSide struct {
	Pane      int             `json:"pane"`
	Label     string          `json:"label"`
	Attempt   string          `json:"attempt"`
	Number    int             `json:"number"`
	Session   string          `json:"session"`
	Agent     string          `json:"agent"`
	Browser   string          `json:"browser"`
	Version   string          `json:"version"`
	Verdict   verdict.Verdict `json:"verdict"`
	Message   string          `json:"message"`
	StartedAt *time.Time      `json:"started_at"`
	TookMS    int64           `json:"took_ms"`
}

// BesideRow is one step.
type BesideRow struct {
	triage.Aligned
	L *BesideStep `json:"l"`
	R *BesideStep `json:"r"`
}

// BesideStep is what happened in it on one side.
type BesideStep struct {
	State   attempt.State `json:"state"`
	TookMS  int64         `json:"took_ms"`
	StartMS int64         `json:"start_ms"`
	Matched string        `json:"matched"`
	Message string        `json:"message"`
	Picture string        `json:"picture" description:"file of the attempt: the step's own, or the last one recorded before its end"`
	Own     bool          `json:"own" description:"the picture was taken in this step"`
}

// BesideLine is an error or a warning of the console; a time of -1: not on that side.
type BesideLine struct {
	Level   string  `json:"level"`
	Text    string  `json:"text"`
	LeftMS  float64 `json:"left_ms"`
	RightMS float64 `json:"right_ms"`
}

// BesideRequest is an address that was asked for; a status of -1: not on that side.
type BesideRequest struct {
	Method  string  `json:"method"`
	Path    string  `json:"path"`
	Left    int     `json:"left" description:"status of the answer"`
	Right   int     `json:"right"`
	LeftMS  float64 `json:"left_ms"`
	RightMS float64 `json:"right_ms"`
	Slow    string  `json:"slow" enum:",left,right" description:"where it took at least twice as long and 300 ms more"`
}
