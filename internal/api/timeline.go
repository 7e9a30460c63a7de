package api

import (
	"encoding/json"

	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/verdict"
)

// Timeline is when what of a run ran where.
type Timeline struct {
	RunSummary
	Slots      []TimelineSlot `json:"slots"`
	BoundS     float64        `json:"lower_bound_s" description:"no schedule could have ended it earlier with its slots"`
	MakespanS  float64        `json:"makespan_s"`
	Met        Met            `json:"met"`
	StartedMS  int64          `json:"started_ms" description:"milliseconds since 1970 at which the first attempt began"`
	Unfinished int            `json:"unfinished" description:"tests that have no verdict yet"`
}

// TimelineSlot is one slot of an agent.
type TimelineSlot struct {
	Agent string `json:"agent"`
	Slot  int    `json:"slot" description:"from 1"`
	Bars  []Bar  `json:"bars"`
}

// Bar is one attempt; bars of one lease belong to one slice.
type Bar struct {
	Pane    int             `json:"pane"`
	Label   string          `json:"label"`
	Test    int             `json:"test"`
	Name    string          `json:"name"`
	Attempt int             `json:"attempt"`
	Lease   int64           `json:"lease"`
	Verdict verdict.Verdict `json:"verdict"`
	StartMS int64           `json:"start_ms" description:"since the run's first attempt began"`
	TookMS  int64           `json:"took_ms"`
}

// ForecastRequest asks for a forecast: of given tests and agents, or of a run
// with the durations it had on the fleet that is online.
type ForecastRequest struct {
	Question *json.RawMessage `json:"question,omitempty" description:"tests, agents, known_durations and limit"`
	Run      int              `json:"run,omitempty" description:"number of a run whose tests are to be forecast instead"`
	Limit    int              `json:"limit,omitempty" minimum:"0" description:"most slots at once; 0 means all"`
	More     []int            `json:"more,omitempty" description:"also forecast with so many more agents, at most 12 numbers"`
}

// ForecastAnswer is a forecast with what-ifs.
type ForecastAnswer struct {
	plan.Forecast
	WhatIf []plan.Knee `json:"what_if"`
	Knee   int         `json:"knee" description:"agents beyond which each further one saves little; 0 when nothing was asked"`
}
