// Package dispatch decides which agent runs what, and when. It is a state
// machine without I/O: the caller feeds it what happened (a run submitted, an
// agent joined, a result) together with the time it happened, and carries out
// the decisions it returns. The same code serves a real fleet, a simulation and
// a test with virtual time.
//
// A Machine is not safe for concurrent use; its owner holds one lock around it.
package dispatch

import (
	"time"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

// Config holds the machine's limits. The zero value of a field means its
// default.
type Config struct {
	LeaseTTL   time.Duration // how long a lease lives without being renewed; 15 s
	QueueLimit time.Duration // how long work waits while no agent that could do it takes work; 5 min
	LabTries   int           // how often a test is tried again after the lab's fault; 2
	MaxSlice   int           // most tests in one lease; 12
	RestAfter  int           // lab faults in a row after which an agent rests; 3
	Rest       time.Duration // the first rest; each further one is twice as long, up to MaxRest; 2 min
	MaxRest    time.Duration // 1 h
	// Mark gives the random bits at the end of a fence, so that nobody guesses one; nil
	// leaves them out.
	Mark func() uint32
}

// markBits is how many bits of a fence are a mark; those before it count the leases.
const markBits = 32

func (c Config) fence(count int64) int64 {
	if c.Mark == nil {
		return count
	}
	return count<<markBits | int64(c.Mark())
}

// count is the inverse of fence.
func (c Config) count(fence int64) int64 {
	if c.Mark == nil {
		return fence
	}
	return fence >> markBits
}

func (c Config) withDefaults() Config {
	for _, d := range []struct {
		field *time.Duration
		value time.Duration
	}{{&c.LeaseTTL, 15 * time.Second}, {&c.QueueLimit, 5 * time.Minute}, {&c.Rest, 2 * time.Minute}, {&c.MaxRest, time.Hour}} {
		if *d.field == 0 {
			*d.field = d.value
		}
	}
	for _, n := range []struct {
		field *int
		value int
	}{{&c.LabTries, 2}, {&c.MaxSlice, 12}, {&c.RestAfter, 3}} {
		if *n.field == 0 {
			*n.field = n.value
		}
	}
	return c
}

// Agent is a machine that can hold leases.
type Agent struct {
	Name     string
	Facts    fleet.Facts
	Slots    int
	Draining bool   // finishes what it has and takes nothing new
	Program  string // marks one start of the agent's program; "" is never the same program
}

// Run is work to be dealt out. Tests of a pane are named by their index.
type Run struct {
	ID         string
	Project    string // shares the fleet with other projects by weight
	Owner      string // who asked for it, for quotas
	Priority   int    // higher goes first within its project
	Panes      []Pane
	Retries    int           // attempts after a failure
	Limit      int           // most leases at once; 0 means no limit
	Lanes      int           // most leases of one pane at once; 0 means no limit, 1 keeps a pane to one agent
	StopAfter  int           // tests that may fail before the rest is skipped; 0 means all
	QueueLimit time.Duration // overrides Config.QueueLimit when positive
	TimeLimit  time.Duration // from the first lease until what is left is skipped; 0 means none
	Once       bool          // a test that has started is not tried again when the lab fails it
	StartedAt  time.Time     // of the first lease, when the run is taken up from records
}

// Pane is one combination's part of a run. The same index is the same test in
// every pane.
type Pane struct {
	Needs  fleet.Needs
	Values map[string]string // of the combination, for quotas
	Tests  []Test
}

// Test is one test of a pane. Past carries the verdicts of attempts made before
// the machine knew of the run, so that a run can be taken up from records.
type Test struct {
	Seconds float64  // estimate of one attempt; 0 means unknown
	Locks   []string // tests that share a lock never run at the same time
	Past    []verdict.Verdict
	Settled bool // nothing is to be done
	Aside   bool // its failure does not count towards StopAfter
}

// QuotaKind says what a quota counts.
type QuotaKind string

// Kinds of quotas.
const (
	OfProject     QuotaKind = "project"
	OfOwner       QuotaKind = "owner"
	OfCombination QuotaKind = "combination"
)

// Quota bounds the slots that a project, an owner or every combination with
// some values may use at once. A project's quota also carries its weight.
type Quota struct {
	Kind   QuotaKind
	Name   string            // of the project or owner
	Values map[string]string // of the combinations
	Slots  int               // 0 means no bound
	Weight float64           // of a project, against the others'; 0 means 1
}

// Decision is something the caller must carry out: a Lease, End, Closed, Lost,
// Settled, Over or Rests.
type Decision interface{ decision() }

// Lease gives an agent a slice. Fence grows with every lease ever granted; a
// result that carries the fence of an ended lease does not count.
type Lease struct {
	Fence   int64
	Agent   string
	Run     string
	Pane    int
	Tests   []int
	Attempt []int // number of the attempt, from 1, for each of Tests
	Expires time.Time
}

// End tells an agent to drop a lease at once.
type End struct {
	Fence int64
	Agent string
	Run   string
	Why   string
}

// Closed says that a lease has a result for each of its tests.
type Closed struct{ Fence int64 }

// Lost records a lab fault: an attempt that its agent will never report.
type Lost struct {
	Fence   int64
	Agent   string
	Run     string
	Pane    int
	Test    int
	Attempt int
	Why     string
}

// Settled gives a test its verdict.
type Settled struct {
	Run     string
	Pane    int
	Test    int
	Verdict verdict.Verdict
	Why     string // set when no attempt explains the verdict
}

// Over says that every test of a run is settled.
type Over struct{ Run string }

// Rests says that an agent takes no work for a while, because the lab was at
// fault there several times in a row.
type Rests struct {
	Agent string
	Until time.Time
	Why   string
}

func (Lease) decision()   {}
func (End) decision()     {}
func (Closed) decision()  {}
func (Lost) decision()    {}
func (Settled) decision() {}
func (Over) decision()    {}
func (Rests) decision()   {}

// Machine is the scheduler's state.
//
// Invariants: a test is either queued once, in exactly one live lease, or
// settled; an agent never has more leases than slots; no limit, lane count,
// quota or lock is ever exceeded by a lease that the machine grants.
type Machine struct {
	cfg      Config
	agents   map[string]*agentState
	classes  map[string]*class
	projects map[string]*projectState
	quotas   []*quotaState
	byID     map[string]*runState
	leases   map[int64]*leaseState
	locks    map[string]int64 // name to the fence that holds it
	fence    int64
	serial   int // of runs, in order of submission
	queued   int // tests
	work     float64
	slots    int // of agents that take work
	free     int // of those, without a lease
	pressure pressure
	out      []Decision
}

// New returns a machine whose first lease has the fence after lastFence.
func New(cfg Config, lastFence int64) *Machine {
	return &Machine{
		cfg: cfg.withDefaults(), fence: cfg.count(lastFence), agents: map[string]*agentState{}, classes: map[string]*class{},
		projects: map[string]*projectState{}, byID: map[string]*runState{}, leases: map[int64]*leaseState{}, locks: map[string]int64{},
	}
}

// take returns the decisions gathered since the last call.
func (m *Machine) take() []Decision {
	out := m.out
	m.out = nil
	return out
}
