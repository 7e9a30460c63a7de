// Package attempt holds what one execution of a test is made of: its steps and
// times, what its browser emulated, what was recorded, its files. Suites of every
// kind report it, and the records keep it.
package attempt

import "parallelpane/internal/core/source"

// State is how a step ended.
type State string

// States of a step.
const (
	Passed   State = "passed"
	Failed   State = "failed"
	LabFault State = "lab-fault"
	Skipped  State = "skipped" // its condition was false
	Unrun    State = "unrun"   // the test ended before it
)

// Step is what happened in a step.
type Step struct {
	Index   int             `json:"index"` // from 0
	Title   string          `json:"title"`
	Action  string          `json:"action"`
	At      source.Position `json:"at"`
	State   State           `json:"state"`
	StartMS int64           `json:"start_ms"` // since the test's start
	TookMS  int64           `json:"took_ms"`
	Message string          `json:"message,omitempty"`
	Matched string          `json:"matched,omitempty"` // the element that was acted on
	Site    bool            `json:"site,omitempty"`    // at fault is the lab, because the site under test does not answer
	Shot    string          `json:"shot,omitempty"`    // name under which the watcher keeps the screenshot taken in it
	Page    string          `json:"page,omitempty"`    // name under which the watcher keeps what the page was made of when it failed
	OverMS  int64           `json:"over_ms,omitempty"` // its limit, where it took longer
	Aged    *Aged           `json:"aged,omitempty"`    // its locator finds nothing any more, and something is like what it found
}
