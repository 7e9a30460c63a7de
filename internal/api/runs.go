package api

import (
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
)

// Kinds of runs and sessions.
const (
	ScriptKind = "script"
	RemoteKind = "remote"
)

// State is where a run, pane or test stands.
type State string

// States.
const (
	Queued  State = "queued"
	Running State = "running"
	Ended   State = "ended"
	Undealt State = "undealt" // a test that does not belong to a pane of this run
)

// RunSummary is a run in a list.
type RunSummary struct {
	Number      int             `json:"number"`
	ID          string          `json:"id"`
	Project     string          `json:"project"`
	Suite       string          `json:"suite"`
	Matrix      string          `json:"matrix"`
	Environment string          `json:"environment"`
	By          string          `json:"by"`
	Kind        string          `json:"kind" enum:"script,remote" description:"remote: of sessions; its name stands for the suite's"`
	State       State           `json:"state"`
	Verdict     verdict.Verdict `json:"verdict"`
	Why         string          `json:"why" description:"why it ended early, if it did"`
	Counts      verdict.Counts  `json:"counts"`
	CreatedAt   *time.Time      `json:"created_at"`
	StartedAt   *time.Time      `json:"started_at"`
	EndedAt     *time.Time      `json:"ended_at"`
	ExpectedAt  *time.Time      `json:"expected_at" description:"when an open run is expected to end; null while that cannot be said"`
	AgainOf     int             `json:"again_of" description:"number of the run it repeats; 0 when it repeats none"`
	Panes       []PaneGlance    `json:"panes"`
}

// PaneGlance is a pane in a list of runs.
type PaneGlance struct {
	Label   string          `json:"label"`
	State   State           `json:"state"`
	Verdict verdict.Verdict `json:"verdict"`
}

// Run is a whole run with its wall.
type Run struct {
	RunSummary
	Base    string     `json:"base"`
	Request RunRequest `json:"request"`
	Plan    RunPlan    `json:"plan"`
	Panes   []Pane     `json:"panes"`
	Tests   []Test     `json:"tests"`
	Cells   [][]Cell   `json:"cells" description:"by pane, then by test"`
}

// RunPlan is what a run's matrix came to, frozen when the run was made.
type RunPlan struct {
	Missing []combo.Missing `json:"missing" description:"combinations left out, with the reason; at most 200"`
	Cover   combo.Covered   `json:"cover"`
	Renamed []suite.Rename  `json:"renamed" description:"tests that had other names in the run before: what they did stays theirs"`
	Turn    int             `json:"turn" description:"with deal spread: how many such runs came before"`
}

// Pane is one combination's part of a run.
type Pane struct {
	Index   int               `json:"index"`
	Key     string            `json:"key"`
	Label   string            `json:"label"`
	Values  map[string]string `json:"values"`
	Needs   fleet.Needs       `json:"needs"`
	State   State             `json:"state"`
	Verdict verdict.Verdict   `json:"verdict"`
	Counts  verdict.Counts    `json:"counts"`
	Running int               `json:"running" description:"tests running now"`
	Agents  []string          `json:"agents" description:"agents that took part"`
	TookMS  int64             `json:"took_ms" description:"time of all its attempts together"`
	Info    PaneInfo          `json:"info"`
}

// PaneInfo is what a pane ran on.
type PaneInfo struct {
	Browser  string         `json:"browser"`
	Version  string         `json:"version"`
	Emulated device.Outcome `json:"emulated"`
}

// Test is a test of a run.
type Test struct {
	Index int      `json:"index"`
	Name  string   `json:"name"`
	File  string   `json:"file"`
	Tags  []string `json:"tags"`
	Locks []string `json:"locks"`
}

// Cell is one test in one pane.
type Cell struct {
	State    State           `json:"state"`
	Verdict  verdict.Verdict `json:"verdict"`
	Why      string          `json:"why" description:"set when no attempt explains the verdict"`
	Attempts int             `json:"attempts"`
	Agent    string          `json:"agent" description:"of the newest attempt"`
	TookMS   int64           `json:"took_ms" description:"of the newest attempt"`
	Message  string          `json:"message" description:"of the newest attempt that did not pass"`
	Session  string          `json:"session" description:"id of the newest session, if it is known"`
}

// TestResult is one test of a run in every pane, with its attempts.
type TestResult struct {
	Run     RunSummary        `json:"run"`
	Test    Test              `json:"test"`
	Tests   []Test            `json:"tests" description:"every test of the run, for going to the next"`
	Source  string            `json:"source" description:"the script, as it was run"`
	Blocks  map[string]string `json:"blocks" description:"the files of its blocks, as they were"`
	Results []PaneAttempts    `json:"results" description:"by pane"`
}

// PaneAttempts is one test in one pane.
type PaneAttempts struct {
	Pane     Pane      `json:"pane"`
	Cell     Cell      `json:"cell"`
	Attempts []Attempt `json:"attempts" description:"oldest first"`
}

// Attempt is one execution of a test.
type Attempt struct {
	ID        string          `json:"id"`
	Number    int             `json:"number"`
	Agent     string          `json:"agent"`
	Verdict   verdict.Verdict `json:"verdict"`
	Message   string          `json:"message"`
	StartedAt *time.Time      `json:"started_at"`
	TookMS    int64           `json:"took_ms"`
	Detail    attempt.Detail  `json:"detail"`
	Files     []attempt.File  `json:"files"`
	Sessions  []string        `json:"sessions" description:"ids, in the order in which they were opened; perhaps none"`
}

// RunFile is a file kept by a run.
type RunFile struct {
	Attempt string `json:"attempt"`
	Number  int    `json:"number" description:"of the attempt"`
	Pane    int    `json:"pane"`
	Label   string `json:"label"`
	Test    string `json:"test"`
	attempt.File
}

// RunFilter narrows a list of runs. Empty fields do not.
type RunFilter struct {
	Project     string `query:"project" json:"-"`
	Suite       string `query:"suite" json:"-"`
	Matrix      string `query:"matrix" json:"-"`
	Environment string `query:"environment" json:"-"`
	Bundle      string `query:"bundle" json:"-" description:"what its SHA-256 begins with"`
	Verdict     string `query:"verdict" json:"-" description:"passed, failed, flaky, lab-fault, ended, skipped or unsupported"`
	By          string `query:"by" json:"-" description:"who started it"`
	State       string `query:"state" json:"-" enum:"open,ended"`
	Text        string `query:"text" json:"-" description:"found in project, suite, matrix, environment, person or #number"`
	Before      int    `query:"before" json:"-" description:"only numbers below this one"`
	Limit       int    `query:"limit" json:"-" description:"at most this many; 50 if not given, 200 at most"`

	Among []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// Words is a run in a few words, for pasting; each form says the same.
type Words struct {
	Title    string `json:"title" description:"one line of text"`
	Text     string `json:"text"`
	Markdown string `json:"markdown"`
	HTML     string `json:"html"`
}
