package link

import (
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/mending"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
)

// Hello is what an agent says of itself before it opens its link. It may be long:
// an agent holds many leases and has many browsers.
type Hello struct {
	Name     string        `json:"name"`
	Instance string        `json:"instance"` // random, one for each start of the program
	Machine  fleet.Machine `json:"machine"`
	Held     []int64       `json:"held"` // fences of the leases it works on
}

// Welcome is the answer to a Hello. The ticket opens one link.
type Welcome struct {
	Ticket string `json:"ticket"`
}

// Slice is the work of one lease.
type Slice struct {
	Fence       int64             `json:"fence"`
	Run         int               `json:"run"` // number, for people
	Project     string            `json:"project"`
	Suite       string            `json:"suite"`
	Pane        int               `json:"pane"`
	Label       string            `json:"label"`
	Values      map[string]string `json:"values"`
	Device      device.Profile    `json:"device"`
	Keep        bool              `json:"keep"`   // one browser for the whole slice
	Bundle      string            `json:"bundle"` // SHA-256
	Marker      string            `json:"marker"` // attribute that marks elements for tests
	Base        string            `json:"base"`
	Vars        map[string]string `json:"vars"`
	Tests       []SliceTest       `json:"tests"`
	TestLimitMS int64             `json:"test_limit_ms"`
	Record      record.Policy     `json:"record"`
	Secrets     map[string]string `json:"secrets"` // variables that nothing kept may show
	Traffic     string            `json:"traffic"` // what the way to the site is held to
	Command     *suite.Command    `json:"command"` // of a suite of that kind; null of scripts
	Several     bool              `json:"several"` // the suite is made of others: the bundle says how each is carried out
	Relay       []string          `json:"relay"`   // places that are reached through the run's relay
	Mending     mending.Policy    `json:"mending"` // what is done about locators that find nothing any more
}

// SliceTest is one test of a slice.
type SliceTest struct {
	Index   int    `json:"index"` // within the run
	Name    string `json:"name"`
	File    string `json:"file"`
	Attempt int    `json:"attempt"` // from 1
	ID      string `json:"id"`      // of the attempt, made by the service

	Watch []string `json:"watch"` // titles of steps after which the page is kept though they pass
}

// Output is a part of what a command has printed so far: whole lines, without secrets.
type Output struct {
	From int64  `json:"from"` // bytes from the beginning of what was shown
	Next int64  `json:"next"`
	Text string `json:"text"`
}

// Found names tests that an agent came upon while it worked under a lease.
type Found struct {
	Fence int64       `json:"fence"`
	Tests []FoundTest `json:"tests"`
}

// FoundTest is one of them.
type FoundTest struct {
	Name string `json:"name"` // unique in the run
	File string `json:"file"` // of the bundle
}

// FoundAnswer lists those of them that the lease has now. What is missing has a verdict
// already, or is another lease's.
type FoundAnswer struct {
	Tests []SliceTest `json:"tests"`
}

// Session is the order to open a session for somebody else's runner.
type Session struct {
	Fence   int64             `json:"fence"`
	ID      string            `json:"id"`
	Attempt int               `json:"attempt"` // of its test in its pane, from 1
	Run     int               `json:"run"`     // number, for people
	Project string            `json:"project"`
	Name    string            `json:"name"`
	Label   string            `json:"label"`
	Values  map[string]string `json:"values"`
	Device  *device.Profile   `json:"device"` // null leaves the browser as it opens
	Asked   map[string]any    `json:"asked"`  // capabilities for the driver
	IdleMS  int64             `json:"idle_ms"`
	LifeMS  int64             `json:"life_ms"`
	Record  record.Policy     `json:"record"`
	Secrets []string          `json:"secrets"`
	Traffic string            `json:"traffic"` // what the way to the site is held to
	Relay   []string          `json:"relay"`   // places that are reached through a relay
}

// SessionOpen says that a session is open.
type SessionOpen struct {
	Given   map[string]any `json:"given"` // capabilities as the client is to see them
	Browser string         `json:"browser"`
	Version string         `json:"version"`
}

// SessionFault says that a session could not be opened.
type SessionFault struct {
	Code    string `json:"code"` // of W3C WebDriver
	Message string `json:"message"`
	Lab     bool   `json:"lab"` // the lab is at fault, not what was asked for
}

// SessionVerdict is what a runner says of the test that a session served.
type SessionVerdict struct {
	Verdict verdict.Verdict `json:"verdict"` // passed, failed or skipped
	Message string          `json:"message,omitempty"`
	By      string          `json:"-"` // a person who said so afterwards; "" for the runner
}

// Hand is what a person who has reached into a session does by hand. Places are
// parts of the picture's width and height, from 0 to 1.
type Hand struct {
	Who    string  `json:"who"`
	Do     string  `json:"do"` // reach, let-go, click, scroll, type, key, source
	X      float64 `json:"x,omitempty"`
	Y      float64 `json:"y,omitempty"`
	Text   string  `json:"text,omitempty"` // with type
	Key    string  `json:"key,omitempty"`  // with key: Enter, Tab, Backspace …
	DeltaX float64 `json:"dx,omitempty"`   // with scroll, CSS pixels
	DeltaY float64 `json:"dy,omitempty"`   // with scroll, CSS pixels
}

// Beat is an agent's sign of life.
type Beat struct {
	Name     string       `json:"name"`
	Instance string       `json:"instance"`
	Held     []int64      `json:"held"`
	Advice   fleet.Advice `json:"advice"`
	Stock    []StockState `json:"stock"` // what became of what the service stocks
}

// BeatAnswer names the leases that have ended and must be dropped, and the revision of
// what the service stocks: when it changes, the agent asks anew.
type BeatAnswer struct {
	Ended []int64 `json:"ended"`
	Stock string  `json:"stock"`
}

// Stock is what an agent is to have of the browsers that the service stocks.
type Stock struct {
	Revision string      `json:"revision"`
	Items    []StockItem `json:"items"`
}

// StockItem is one installation; its archives belong together.
type StockItem struct {
	ID       string         `json:"id"`
	Name     string         `json:"name"`
	Archives []StockArchive `json:"archives"`
}

// StockArchive is an archive to fetch.
type StockArchive struct {
	Name string `json:"name"`
	Hash string `json:"sha256"`
	Size int64  `json:"size"`
}

// StockState is how far an agent is with an installation.
type StockState struct {
	ID    string `json:"id"`
	State string `json:"state"` // one of the API's
	Done  int64  `json:"done"`  // bytes fetched
	Why   string `json:"why"`
}

// Machine is what an agent's machine has now.
type Machine struct {
	Instance string        `json:"instance"`
	Machine  fleet.Machine `json:"machine"`
}

// Started says which test of a lease runs now.
type Started struct {
	Fence int64 `json:"fence"`
	Test  int   `json:"test"`
}

// Result is one finished attempt. Its files have been uploaded before.
type Result struct {
	ID        string          `json:"id"` // of the attempt, as the service named it
	Fence     int64           `json:"fence"`
	Test      int             `json:"test"`
	Attempt   int             `json:"attempt"`
	Agent     string          `json:"agent"`
	Verdict   verdict.Verdict `json:"verdict"`
	Message   string          `json:"message"`
	Site      bool            `json:"site"`       // a lab fault that is the site under test, not the agent
	Lacks     bool            `json:"lacks"`      // a lab fault for want of what this suite needs: the agent is well
	StartedAt int64           `json:"started_at"` // milliseconds since 1970
	TookMS    int64           `json:"took_ms"`
	Detail    attempt.Detail  `json:"detail"`
	Files     []attempt.File  `json:"files"`
	Sessions  int             `json:"sessions"` // that it had
	Seen      []attempt.Seen  `json:"seen"`     // what the locators of a test that passed have matched
}

// Recall asks for what a locator matched when its test last passed.
type Recall struct {
	Fence int64  `json:"fence"`
	Test  int    `json:"test"` // of the lease, within the run
	Place string `json:"place"`
}

// Recalled is the answer; null where nothing is remembered.
type Recalled struct {
	Seen *attempt.Seen `json:"seen"`
}

// Grown is how much of a file the service has, in bytes. A sender whose piece
// began beyond that goes on from there.
type Grown struct {
	Have int64 `json:"have"`
}

// Handover names the files of a session that ended.
type Handover struct {
	Session string         `json:"-" path:"id"`
	Fence   int64          `json:"fence"`
	Files   []attempt.File `json:"files"`
}

// HandoverAnswer names those that are still to be sent, whole.
type HandoverAnswer struct {
	Lacking []string `json:"lacking"`
}

// ResultAnswer says whether a result counted. One that did not is to be
// dropped, not sent again.
type ResultAnswer struct {
	Accepted bool   `json:"accepted"`
	Why      string `json:"why,omitempty"`
}
