package api

// LabTrendFilter says of what it is asked how the lab was used.
type LabTrendFilter struct {
	Project string `query:"project" json:"-" description:"only its attempts and waits"`
	Agent   string `query:"agent" json:"-" description:"the days are those of this agent alone, without waits"`
	Days    int    `query:"days" json:"-" description:"how many days back, today included; 30 if not given, 400 at most"`

	Among []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// LabTrends say how the lab was used, by day and by agent.
type LabTrends struct {
	From   string     `json:"from" description:"the first day, as 2026-11-27"`
	To     string     `json:"to"`
	Days   []LabDay   `json:"days" description:"every day on which something ran or an agent was online"`
	Agents []LabAgent `json:"agents" description:"those with most lab faults for certain first"`
}

// LabWork is what was done in a time.
type LabWork struct {
	Attempts  int   `json:"attempts"`
	Faults    int   `json:"faults" description:"of these, lab faults"`
	BusyMS    int64 `json:"busy_ms" description:"of slots, together"`
	OfferedMS int64 `json:"offered_ms" description:"slots times the time their agents were online; 0 where that is not on record"`
}

// LabDay is one day, in UTC.
type LabDay struct {
	Day string `json:"day"`
	LabWork
	Waits  int   `json:"waits" description:"runs, and sessions of somebody else's runner, that were asked for on this day and got a slot"`
	WaitMS int64 `json:"wait_ms" description:"how long they waited for their first slot, median"`
	LongMS int64 `json:"long_ms" description:"what nine of ten of them waited at most"`
}

// LabAgent is one agent over all these days.
type LabAgent struct {
	Agent string `json:"agent"`
	LabWork
	Rate float64 `json:"rate" description:"lab faults among its attempts"`
	Low  float64 `json:"low" description:"of the interval in which the rate is with 95 %, by Wilson"`
	High float64 `json:"high"`
}
