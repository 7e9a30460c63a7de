package api

import (
	"time"

	"parallelpane/internal/core/bisect"
	"parallelpane/internal/core/verdict"
)

// BisectAxis is along what a search looks.
type BisectAxis string

// The axes.
const (
	ByVersion BisectAxis = "version" // of the combination's browser
	ByBundle  BisectAxis = "bundle"  // of the suite's earlier runs
)

// BisectRequest asks from where on a test fails.
type BisectRequest struct {
	Test    string            `json:"test" required:"true" description:"its name"`
	Axis    BisectAxis        `json:"axis,omitempty" enum:"version,bundle" description:"version if not given"`
	Pane    string            `json:"pane,omitempty" description:"key or label of the combination; the first in which it failed if not given"`
	Sure    float64           `json:"sure,omitempty" description:"the probability to reach, 0.5 to 0.999; 0.95 if not given"`
	Most    int               `json:"most,omitempty" minimum:"0" maximum:"500" description:"tries at most; 60 if not given"`
	Secrets map[string]string `json:"secrets,omitempty" description:"those that the run had: they are not kept after its end"`
}

// Bisect is a search for where a test begins to fail.
type Bisect struct {
	ID         string        `json:"id"`
	Project    string        `json:"project"`
	Run        int           `json:"run" description:"the one whose test it is"`
	Test       string        `json:"test"`
	Axis       BisectAxis    `json:"axis"`
	Label      string        `json:"label" description:"of the combination"`
	Candidates []string      `json:"candidates" description:"oldest first: versions, or bundles by their SHA-256"`
	Tries      []BisectTry   `json:"tries"`
	Sure       float64       `json:"sure" description:"the probability to reach"`
	Most       int           `json:"most"`
	By         string        `json:"by"`
	StartedAt  *time.Time    `json:"started_at"`
	EndedAt    *time.Time    `json:"ended_at"`
	Answer     *BisectAnswer `json:"answer" description:"null while it goes on"`
}

// BisectTry is a run that was made for a search, or one before it.
type BisectTry struct {
	Candidate string          `json:"candidate"`
	Run       int             `json:"run"`
	Verdict   verdict.Verdict `json:"verdict" description:"empty while it runs"`
	Session   string          `json:"session"`
}

// BisectAnswer is what a search found.
type BisectAnswer struct {
	Kind  bisect.Kind `json:"kind"`
	Words string      `json:"words" description:"in a sentence"`
	Last  string      `json:"last" description:"the last candidate before the place, when there is one"`
	First string      `json:"first" description:"the first candidate behind it"`
	Sure  float64     `json:"sure"`
	// The newest tries on either side, to be looked at side by side.
	LastTry  *BisectTry `json:"last_try"`
	FirstTry *BisectTry `json:"first_try"`
}
