package api

import "time"

// Schedule runs a preset again and again.
type Schedule struct {
	Name     string      `json:"name"`
	Project  string      `json:"project"`
	Preset   string      `json:"preset"`
	Rule     string      `json:"rule" description:"RFC 5545 recurrence rule, without RRULE:, or when browser=NAME changes"`
	Words    string      `json:"words" description:"the rule in plain words"`
	Start    *time.Time  `json:"start"`
	Zone     string      `json:"zone"`
	Missed   Missed      `json:"missed"`
	Overlap  Overlap     `json:"overlap"`
	Paused   bool        `json:"paused"`
	Next     []time.Time `json:"next" description:"the next five occurrences; none while paused or when it is over"`
	LastRun  int         `json:"last_run" description:"number of the latest run; 0 when there is none"`
	LastNote string      `json:"last_note" description:"what became of the latest occurrence"`
	MadeBy   string      `json:"made_by"`
	MadeAt   *time.Time  `json:"made_at"`
}

// ScheduleRequest makes a schedule.
type ScheduleRequest struct {
	Name    string  `json:"name" required:"true"`
	Preset  string  `json:"preset" required:"true"`
	Rule    string  `json:"rule" required:"true" description:"RFC 5545 recurrence rule, without RRULE:, or when browser=NAME changes"`
	Start   string  `json:"start,omitempty" description:"first moment, RFC 3339; the present if not given"`
	Zone    string  `json:"zone,omitempty" description:"time zone in which the wall clock is kept; UTC if not given"`
	Missed  Missed  `json:"missed,omitempty" enum:"run,skip" description:"when the service was down: run once, or skip; run if not given"`
	Overlap Overlap `json:"overlap,omitempty" enum:"wait,skip,cancel" description:"while the run before goes on; wait if not given"`
}

// Missed says what to do when the service was down at the time.
type Missed string

// Overlap says what to do while the previous run goes on.
type Overlap string

// Policies.
const (
	MissedRun     Missed  = "run"
	MissedSkip    Missed  = "skip"
	OverlapWait   Overlap = "wait"
	OverlapSkip   Overlap = "skip"
	OverlapCancel Overlap = "cancel"
)

// Occurrences is a rule's preview.
type Occurrences struct {
	Words       string      `json:"words"`
	Occurrences []time.Time `json:"occurrences"`
}
