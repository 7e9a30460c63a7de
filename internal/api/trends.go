package api

import (
	"time"

	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
)

// TrendFilter says what trends are asked for.
type TrendFilter struct {
	Project string `query:"project" json:"-"`
	Suite   string `query:"suite" json:"-" description:"only with by=test or by=suite"`
	By      string `query:"by" json:"-" description:"an axis such as browser, combination, test, suite or project; browser if not given"`
	Only    string `query:"only" json:"-" description:"values of axes, as browser=firefox device=phone; not with by=test or suite"`
	Days    int    `query:"days" json:"-" description:"how many days back, today included; 30 if not given, 400 at most"`

	Among []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// Trends are counts of cells that ran, by day and by what was asked for.
type Trends struct {
	From   string       `json:"from" description:"the first day, as 2026-11-27"`
	To     string       `json:"to"`
	By     string       `json:"by"`
	Days   []TrendDay   `json:"days" description:"every day on which something ran"`
	Groups []TrendGroup `json:"groups" description:"those that fail most first"`
}

// TrendDay is one day.
type TrendDay struct {
	Day    string         `json:"day"`
	Counts verdict.Counts `json:"counts"`
}

// TrendGroup is one value of what was asked for.
type TrendGroup struct {
	Value  string         `json:"value"`
	Counts verdict.Counts `json:"counts"`
	Rate   float64        `json:"rate" description:"failed among those that passed, failed or were flaky"`
	Low    float64        `json:"low" description:"of the interval in which the rate is with 95 %, by Wilson"`
	High   float64        `json:"high"`
	Days   []TrendDay     `json:"days"`
}

// SlowFilter says of what it is asked what is slow.
type SlowFilter struct {
	Project string `query:"project" json:"-"`
	Suite   string `query:"suite" json:"-"`
	Runs    int    `query:"runs" json:"-" description:"how many of a suite's runs are looked at; 30 if not given, 100 at most"`
	Text    string `query:"text" json:"-" description:"found in the test's name"`

	Among []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// Slow says what became slower in a suite, and where it is slow.
type Slow struct {
	Project string        `json:"project"`
	Suite   string        `json:"suite"`
	Runs    int           `json:"runs" description:"that were looked at"`
	Turns   []SlowTest    `json:"turns" description:"tests whose time changed for certain, those that lost most first"`
	Longest []SlowTest    `json:"longest" description:"the tests that take longest"`
	Over    []SlowStep    `json:"over" description:"steps that took longer than their limits, those that were most often first"`
	Lags    []SlowPlace   `json:"lags" description:"steps that take much longer in some combinations than elsewhere"`
	Paces   []triage.Pace `json:"paces" description:"combinations against the median one, the slowest first"`
}

// SlowTest is a test with its times.
type SlowTest struct {
	Test   string       `json:"test"`
	MS     int64        `json:"ms" description:"median over the runs and combinations in which it passed"`
	Turn   *triage.Turn `json:"turn" description:"the run in which it changed; null where it did not"`
	Bundle string       `json:"bundle" description:"of that run, SHA-256"`
	Series []SlowPoint  `json:"series" description:"by run, oldest first"`
}

// SlowStep is a step that took longer than its limit.
type SlowStep struct {
	Test    string `json:"test"`
	Title   string `json:"title"`
	LimitMS int64  `json:"limit_ms"`
	Times   int    `json:"times" description:"how often it did"`
	WorstMS int64  `json:"worst_ms"`
	On      string `json:"on" description:"the combination in which it took longest"`
	Run     int    `json:"run" description:"the newest in which it did"`
	Pane    int    `json:"pane" description:"in that run"`
	Place   int    `json:"place" description:"of the test in that run"`
}

// SlowPlace is a step that takes much longer in some combinations than in the others.
type SlowPlace struct {
	triage.Lag
	Run   int `json:"run" description:"the newest in which that can be seen"`
	Pane  int `json:"pane" description:"in that run, one in which it lags"`
	Place int `json:"place" description:"of the test in that run"`
}

// SlowPoint is what a test took in one run.
type SlowPoint struct {
	Run int   `json:"run"`
	MS  int64 `json:"ms" description:"median over the combinations"`
}

// Overview is what is going on, at a glance.
type Overview struct {
	At       *time.Time      `json:"at"`
	Running  []RunSummary    `json:"running"`
	Waiting  []WaitingRun    `json:"waiting"`
	Lab      OverviewLab     `json:"lab"`
	Suites   []OverviewSuite `json:"suites" description:"the newest ended run of each suite, the newest first"`
	Unsteady []UnsteadyTest  `json:"unsteady" description:"the five most wasteful"`
	Next     []OverviewNext  `json:"next" description:"what comes by itself, the next five"`
}

// WaitingRun is a run of which nothing runs yet.
type WaitingRun struct {
	RunSummary
	Because string `json:"because"`
}

// OverviewLab is the lab's health.
type OverviewLab struct {
	Online int            `json:"online" description:"agents"`
	Slots  int            `json:"slots" description:"of agents online"`
	Used   int            `json:"used"`
	Away   []OverviewAway `json:"away" description:"agents that take no work, with the reason"`
	Faults []AgentFaults  `json:"faults" description:"lab faults of a day, by agent, most first"`
	Full   string         `json:"full" description:"what is wrong with the room on the disk; else empty"`
}

// OverviewAway is an agent that takes no work.
type OverviewAway struct {
	Agent   string `json:"agent"`
	Because string `json:"because"`
}

// AgentFaults counts lab faults of an agent.
type AgentFaults struct {
	Agent  string `json:"agent" description:"empty where no agent was reached"`
	Faults int    `json:"faults"`
}

// OverviewSuite is a suite as its newest run left it.
type OverviewSuite struct {
	Run    RunSummary `json:"run"`
	Causes []Cause    `json:"causes" description:"the weightiest three, those that are new first"`
	More   int        `json:"more" description:"further causes"`
	Fresh  int        `json:"fresh" description:"causes that came within a day"`
}

// OverviewNext is a run that comes by itself.
type OverviewNext struct {
	Schedule string    `json:"schedule"`
	Preset   string    `json:"preset"`
	At       time.Time `json:"at"`
}
