package api

import (
	"time"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
)

// Why answers who can run what.
type Why struct {
	Needs fleet.Needs `json:"needs"`
	fleet.Answer
	Nearest []string            `json:"nearest" description:"agents that do not match, those that lack least first"`
	Why     string              `json:"why" description:"when nobody can: the nearest agents and what each lacks, in a sentence"`
	Facts   map[string][]string `json:"facts" description:"every fact there is in the fleet and its values, to choose from"`
}

// PlannedMatrix is a matrix's plan in the lab as it is.
type PlannedMatrix struct {
	combo.Plan
	Agents [][]string `json:"agents" description:"for each combination, the agents that could run it"`
}

// Quota bounds the slots that a project, the owner of a token or every
// combination with some values may use at once. A project's also has a weight.
type Quota struct {
	ID     string             `json:"id"`
	Kind   dispatch.QuotaKind `json:"kind"`
	Name   string             `json:"name" description:"of the project or owner; for combinations the values, such as browser=webkitgtk"`
	Slots  int                `json:"slots" description:"most slots at once; 0 means no bound"`
	Weight float64            `json:"weight" description:"of a project's share against the others'; 0 means 1"`
}

// QuotaRequest sets a quota.
type QuotaRequest struct {
	Kind   dispatch.QuotaKind `json:"kind" required:"true" enum:"project,owner,combination"`
	Name   string             `json:"name" required:"true"`
	Slots  int                `json:"slots,omitempty" minimum:"0"`
	Weight float64            `json:"weight,omitempty" minimum:"0"`
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
	Project string `json:"project"`

	Run   int    `json:"run"`
	Label string `json:"label"`
	Tests int    `json:"tests"`

	Session string `json:"session" description:"id of the session, when the lease is one"`
}
