package service

import (
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
)

// RunRequest asks for a run. Empty names mean the project's defaults.
type RunRequest struct {
	Bundle      string            `json:"bundle" required:"true" pattern:"^[0-9a-f]{64}$" description:"SHA-256 of a bundle the service has"`
	Suite       string            `json:"suite,omitempty"`
	Matrix      string            `json:"matrix,omitempty"`
	Environment string            `json:"environment,omitempty"`
	Base        string            `json:"base,omitempty" description:"base address instead of the environment's"`
	Vars        map[string]string `json:"vars,omitempty" description:"variables on top of the environment's"`
	Tags        []string          `json:"tags,omitempty" description:"only tests with one of these tags"`
	Tests       []string          `json:"tests,omitempty" description:"only tests of these names"`
	Retries     int               `json:"retries,omitempty" minimum:"0" maximum:"10" description:"attempts after a failure"`
	Limit       int               `json:"limit,omitempty" minimum:"0" description:"most slices at once; 0 means no limit"`
	TestLimitS  int               `json:"test_limit_s,omitempty" minimum:"0" description:"seconds a test may take; 0 means 120"`
	QueueLimitS int               `json:"queue_limit_s,omitempty" minimum:"0" description:"seconds to wait for an agent that could do the work; 0 means the service's"`
}

// State is where a run, pane or test stands.
type State string

// States.
const (
	Queued  State = "queued"
	Running State = "running"
	Ended   State = "ended"
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
	State       State           `json:"state"`
	Verdict     verdict.Verdict `json:"verdict"`
	Why         string          `json:"why" description:"why it ended early, if it did"`
	Counts      verdict.Counts  `json:"counts"`
	CreatedAt   *time.Time      `json:"created_at"`
	StartedAt   *time.Time      `json:"started_at"`
	EndedAt     *time.Time      `json:"ended_at"`
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
	Panes   []Pane     `json:"panes"`
	Tests   []Test     `json:"tests"`
	Cells   [][]Cell   `json:"cells" description:"by pane, then by test"`
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
}

// TestResult is one test of a run in every pane, with its attempts.
type TestResult struct {
	Run     RunSummary     `json:"run"`
	Test    Test           `json:"test"`
	Tests   []Test         `json:"tests" description:"every test of the run, for going to the next"`
	Source  string         `json:"source" description:"the script, as it was run"`
	Results []PaneAttempts `json:"results" description:"by pane"`
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
	Detail    link.Detail     `json:"detail"`
	Files     []link.File     `json:"files"`
}

// RunFile is a file kept by a run.
type RunFile struct {
	Attempt string `json:"attempt"`
	Number  int    `json:"number" description:"of the attempt"`
	Pane    int    `json:"pane"`
	Label   string `json:"label"`
	Test    string `json:"test"`
	link.File
}

// Agent is an agent in the fleet.
type Agent struct {
	Name     string        `json:"name"`
	Online   bool          `json:"online"`
	Slots    int           `json:"slots"`
	Used     int           `json:"used"`
	Machine  fleet.Machine `json:"machine"`
	LastSeen *time.Time    `json:"last_seen"`
	Work     []AgentWork   `json:"work"`
}

// AgentWork is a lease that an agent holds.
type AgentWork struct {
	Run   int    `json:"run"`
	Label string `json:"label"`
	Tests int    `json:"tests"`
}

// Token is an access token without its secret.
type Token struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Role      Role       `json:"role"`
	CreatedAt *time.Time `json:"created_at"`
}

// Event tells a watcher that something changed.
type Event struct {
	Type string      `json:"type" enum:"run,cell,agents"`
	Run  *RunSummary `json:"run,omitempty" description:"with run and cell: the run as it stands"`
	Pane *Pane       `json:"pane,omitempty" description:"with cell: the pane as it stands"`
	Test int         `json:"test,omitempty" description:"with cell: index of the test"`
	Cell *Cell       `json:"cell,omitempty"`
}

func at(ms int64) *time.Time {
	if ms == 0 {
		return nil
	}
	t := time.UnixMilli(ms).UTC()
	return &t
}
