package api

import (
	"time"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/mending"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/traffic"
)

// Setting is the base address or a variable of a run, with where it comes from.
type Setting struct {
	Name  string    `json:"name" description:"base, vars.NAME, or secrets.NAME, whose value is not said"`
	Value string    `json:"value"`
	From  string    `json:"from"`
	Over  []Setting `json:"over" description:"values of the same name that it goes before, the nearest first"`
}

// Preview says what a request would come to if it were started now.
type Preview struct {
	Project      string              `json:"project"`
	Suite        string              `json:"suite"`
	Matrix       string              `json:"matrix"`
	Environment  string              `json:"environment"`
	Suites       []string            `json:"suites" description:"those of the bundle's project"`
	Matrices     []combo.Matrix      `json:"matrices"`
	Environments []string            `json:"environments"`
	Tags         []string            `json:"tags"`
	Tests        []string            `json:"tests"`
	Request      RunRequest          `json:"request" description:"with its defaults filled in"`
	Settings     []Setting           `json:"settings" description:"base address and variables, and where each comes from"`
	Combinations []combo.Combination `json:"combinations"`
	Missing      []combo.Missing     `json:"missing"`
	Cases        int                 `json:"cases" description:"tests dealt to panes"`
	Unknown      int                 `json:"unknown" description:"of those, how many have no estimate"`
	ExpectedS    float64             `json:"expected_s" description:"seconds until it would end if it started now; 0 when it would never"`
	Met          Met                 `json:"met"`
}

// Met is how much of a wall the last runs have met.
type Met struct {
	Runs  int `json:"runs" description:"how many of the last runs were looked at"`
	Pairs int `json:"pairs" description:"of a test and a combination on the wall"`
	Met   int `json:"met" description:"of those, how many had a verdict of their own in these runs"`
}

// KnownSuite is a suite that was run or saved before, with its latest files.
type KnownSuite struct {
	Project string     `json:"project"`
	Suite   string     `json:"suite"`
	Bundle  string     `json:"bundle"`
	At      *time.Time `json:"at" description:"when these files were last used"`
}

// Preset is a saved run request.
type Preset struct {
	Name      string     `json:"name"`
	Project   string     `json:"project"`
	Request   RunRequest `json:"request"`
	MadeBy    string     `json:"made_by"`
	MadeAt    *time.Time `json:"made_at"`
	ChangedBy string     `json:"changed_by"`
	ChangedAt *time.Time `json:"changed_at"`
	Used      int        `json:"used" description:"runs made from it"`
	LastRun   int        `json:"last_run" description:"number of the latest one; 0 when there is none"`
	LastBy    string     `json:"last_by"`
	LastAt    *time.Time `json:"last_at"`
	ID        string     `json:"id"`
}

// PresetRequest saves a preset.
type PresetRequest struct {
	Name    string     `json:"name" required:"true"`
	Request RunRequest `json:"request" required:"true"`
}

// MaxCells bounds a run: tests × combinations.
const MaxCells = 200_000

// RunRequest asks for a run. Empty names mean the project's defaults.
type RunRequest struct {
	Bundle      string            `json:"bundle" required:"true" pattern:"^([0-9a-f]{64})?$" description:"SHA-256; empty of a runner's run"`
	Suite       string            `json:"suite,omitempty"`
	Matrix      string            `json:"matrix,omitempty"`
	Environment string            `json:"environment,omitempty"`
	Base        string            `json:"base,omitempty" description:"base address instead of the environment's"`
	Vars        map[string]string `json:"vars,omitempty" description:"variables on top of the environment's"`
	Tags        []string          `json:"tags,omitempty" description:"only tests with one of these tags"`
	Tests       []string          `json:"tests,omitempty" description:"only tests of these names"`
	Deal        Deal              `json:"deal,omitempty" enum:"every,spread" description:"each test in every combination, or once"`
	Needs       fleet.Needs       `json:"needs,omitempty" description:"what agents must have besides what the combinations ask for"`
	Browser     Keeping           `json:"browser,omitempty" enum:"fresh,kept" description:"fresh for each test, or kept for a slice"`
	Traffic     string            `json:"traffic,omitempty" description:"its way to the site: down=1500 up=750 delay=120"`
	Relay       string            `json:"relay,omitempty" description:"name of the open relay through which its places are reached"`
	Record      record.Policy     `json:"record,omitempty" description:"what is recorded, instead of what is usual for the project"`
	Secrets     map[string]string `json:"secrets,omitempty" description:"variables that nothing shows; kept sealed, never returned"`
	Mending     mending.Policy    `json:"mending,omitempty" enum:"never,suggest,accept" description:"of locators that find nothing any more"`
	Priority    int               `json:"priority,omitempty" minimum:"-9" maximum:"9" description:"higher goes first within the project"`
	Retries     int               `json:"retries,omitempty" minimum:"0" maximum:"10" description:"attempts after a failure"`
	Limit       int               `json:"limit,omitempty" minimum:"0" description:"most slots at once; 0 means no limit"`
	Lanes       int               `json:"lanes,omitempty" minimum:"0" description:"most slots of a pane at once; 1: one agent; 0: no limit"`
	StopAfter   int               `json:"stop_after,omitempty" minimum:"0" description:"tests that may fail before the rest is skipped"`
	TestLimitS  int               `json:"test_limit_s,omitempty" minimum:"0" description:"seconds a test may take; 0 means 120"`
	RunLimitS   int               `json:"run_limit_s,omitempty" minimum:"0" description:"seconds from its first test on; 0: no limit"`
	QueueLimitS int               `json:"queue_limit_s,omitempty" minimum:"0" description:"seconds to wait for a fit agent; 0: the service's"`
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

// Check says what is wrong with the numbers and words of a request.
func (r RunRequest) Check() error {
	for _, n := range []struct {
		name           string
		value, low, up int
	}{
		{"priority", r.Priority, -9, 9}, {"retries", r.Retries, 0, 10}, {"limit", r.Limit, 0, 100_000}, {"lanes", r.Lanes, 0, 100_000},
		{"stop_after", r.StopAfter, 0, MaxCells}, {"test_limit_s", r.TestLimitS, 0, 86_400}, {"run_limit_s", r.RunLimitS, 0, 7 * 86_400},
		{"queue_limit_s", r.QueueLimitS, 0, 7 * 86_400},
	} {
		if n.value < n.low || n.value > n.up {
			return Errorf(Invalid, "%s: expected %d to %d, found %d", n.name, n.low, n.up, n.value)
		}
	}
	if err := r.Record.Check(); err != nil {
		return Errorf(Invalid, "record: %v", err)
	}
	if _, err := traffic.Parse(r.Traffic); err != nil {
		return Errorf(Invalid, "traffic: %v", err)
	}
	for name, v := range r.Secrets {
		if len(v) < record.MinSecret {
			return Errorf(Invalid, "secrets: %s: a value shorter than %d bytes cannot be kept out of logs; make it a variable or lengthen it",
				name, record.MinSecret)
		}
	}
	if r.Deal != "" && r.Deal != Every && r.Deal != Spread {
		return Errorf(Invalid, "deal: expected every or spread, found %q", r.Deal)
	}
	if r.Browser != "" && r.Browser != Fresh && r.Browser != Kept {
		return Errorf(Invalid, "browser: expected fresh or kept, found %q", r.Browser)
	}
	if err := r.Mending.Check(); err != nil {
		return Errorf(Invalid, "mending: %v", err)
	}
	for fact, want := range r.Needs {
		if fact == "pool" {
			return Errorf(Invalid, "needs: a project's pools follow from the project: leave pool out")
		}
		for _, w := range want {
			if err := fleet.CheckWant(fact, w); err != nil {
				return Errorf(Invalid, "needs: %v", err)
			}
		}
	}
	return nil
}

// AgainRequest asks for an ended run again.
type AgainRequest struct {
	NotPassed bool              `json:"not_passed,omitempty" description:"only the tests that did not pass"`
	Tests     []string          `json:"tests,omitempty" description:"only these tests, by name"`
	Retries   *int              `json:"retries,omitempty" description:"attempts after a failure, 0 to 10; those of the run if not given"`
	Secrets   map[string]string `json:"secrets,omitempty" description:"those that the run had: they are not kept after its end"`
}
