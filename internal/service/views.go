package service

import (
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/recording"
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
	Deal        Deal              `json:"deal,omitempty" enum:"every,spread" description:"every test in every combination, or each test once, spread over the combinations"`
	Needs       fleet.Needs       `json:"needs,omitempty" description:"what agents must have besides what the combinations ask for"`
	Browser     Keeping           `json:"browser,omitempty" enum:"fresh,kept" description:"a fresh browser for each test, or one kept for a slice"`
	Record      record.Policy     `json:"record,omitempty" description:"what is recorded, instead of what is usual for the project"`
	Secrets     map[string]string `json:"secrets,omitempty" description:"variables that no log, file or page will show; they are kept sealed and never returned"`
	Priority    int               `json:"priority,omitempty" minimum:"-9" maximum:"9" description:"higher goes first within the project"`
	Retries     int               `json:"retries,omitempty" minimum:"0" maximum:"10" description:"attempts after a failure"`
	Limit       int               `json:"limit,omitempty" minimum:"0" description:"most slots at once; 0 means no limit"`
	Lanes       int               `json:"lanes,omitempty" minimum:"0" description:"most slots of one pane at once; 1 keeps it to one agent, 0 means no limit"`
	StopAfter   int               `json:"stop_after,omitempty" minimum:"0" description:"tests that may fail before the rest is skipped; 0 means all"`
	TestLimitS  int               `json:"test_limit_s,omitempty" minimum:"0" description:"seconds a test may take; 0 means 120"`
	RunLimitS   int               `json:"run_limit_s,omitempty" minimum:"0" description:"seconds the run may take from its first test; 0 means no limit"`
	QueueLimitS int               `json:"queue_limit_s,omitempty" minimum:"0" description:"seconds to wait for an agent that could do the work; 0 means the service's"`
}

// Deal is how tests are dealt over combinations.
type Deal string

// Ways to deal. The empty one is Every.
const (
	Every  Deal = "every"
	Spread Deal = "spread"
)

// Keeping says how long a browser is kept.
type Keeping string

// Ways to keep a browser. The empty one is Fresh.
const (
	Fresh Keeping = "fresh"
	Kept  Keeping = "kept"
)

// check says what is wrong with the numbers and words of a request.
func (r RunRequest) check() error {
	for _, n := range []struct {
		name           string
		value, low, up int
	}{
		{"priority", r.Priority, -9, 9}, {"retries", r.Retries, 0, 10}, {"limit", r.Limit, 0, 100_000}, {"lanes", r.Lanes, 0, 100_000},
		{"stop_after", r.StopAfter, 0, MaxCells}, {"test_limit_s", r.TestLimitS, 0, 86_400}, {"run_limit_s", r.RunLimitS, 0, 7 * 86_400},
		{"queue_limit_s", r.QueueLimitS, 0, 7 * 86_400},
	} {
		if n.value < n.low || n.value > n.up {
			return errorf(Invalid, "%s: expected %d to %d, found %d", n.name, n.low, n.up, n.value)
		}
	}
	if err := r.Record.Check(); err != nil {
		return errorf(Invalid, "record: %v", err)
	}
	for name, v := range r.Secrets {
		if len(v) < recording.MinSecret {
			return errorf(Invalid, "secrets: %s: a value shorter than %d bytes cannot be kept out of logs; make it a variable or lengthen it", name, recording.MinSecret)
		}
	}
	if r.Deal != "" && r.Deal != Every && r.Deal != Spread {
		return errorf(Invalid, "deal: expected every or spread, found %q", r.Deal)
	}
	if r.Browser != "" && r.Browser != Fresh && r.Browser != Kept {
		return errorf(Invalid, "browser: expected fresh or kept, found %q", r.Browser)
	}
	for fact, want := range r.Needs {
		if fact == "pool" {
			return errorf(Invalid, "needs: a project's pools follow from the project: leave pool out")
		}
		for _, w := range want {
			if err := fleet.CheckWant(fact, w); err != nil {
				return errorf(Invalid, "needs: %v", err)
			}
		}
	}
	return nil
}

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
	Kind        string          `json:"kind" enum:"script,remote" description:"remote is a run of sessions that somebody else's runner opens; its name stands for the suite's"`
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
	Turn    int             `json:"turn" description:"with deal spread: how many such runs came before"`
}

// maxMissing bounds what a run's plan keeps.
const maxMissing = 200

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
	Detail    attempt.Detail  `json:"detail"`
	Files     []attempt.File  `json:"files"`
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

// Agent is an agent in the fleet.
type Agent struct {
	Name     string        `json:"name"`
	Online   bool          `json:"online"`
	Slots    int           `json:"slots"`
	Used     int           `json:"used"`
	Machine  fleet.Machine `json:"machine"`
	LastSeen *time.Time    `json:"last_seen"`
	Work     []AgentWork   `json:"work"`
	Draining bool          `json:"draining"`
	Away     string        `json:"away" description:"why it takes no work: offline, draining, or resting with the reason"`
	RestEnds *time.Time    `json:"rest_ends"`
	Advice   fleet.Advice  `json:"advice"`
}

// AgentWork is a lease that an agent holds.
type AgentWork struct {
	Run   int    `json:"run"`
	Label string `json:"label"`
	Tests int    `json:"tests"`

	Session string `json:"session" description:"id of the session, when the lease is one"`
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
	Type  string      `json:"type" enum:"run,wall,agents,sessions"`
	Run   *RunSummary `json:"run,omitempty" description:"with run and wall: the run as it stands, without its panes"`
	Panes []Pane      `json:"panes,omitempty" description:"with wall: the panes that changed, as they stand"`
	Cells []CellAt    `json:"cells,omitempty" description:"with wall: the cells that changed"`
	Whole bool        `json:"whole,omitempty" description:"with wall: more has changed than an event holds: the run is to be read again"`
}

// CellAt is a cell with its place.
type CellAt struct {
	Pane int `json:"pane"`
	Test int `json:"test"`
	Cell
}

// maxEventCells bounds the cells of one event.
const maxEventCells = 300

func at(ms int64) *time.Time {
	if ms == 0 {
		return nil
	}
	t := time.UnixMilli(ms).UTC()
	return &t
}
