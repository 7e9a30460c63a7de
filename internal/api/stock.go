package api

import (
	"time"

	"parallelpane/internal/core/fleet"
)

// MaxStockArchive bounds one archive that the service stocks, in bytes.
const MaxStockArchive = 512 << 20

// Browsers says which agent has which browser, and what the service stocks.
type Browsers struct {
	Agents []string     `json:"agents"`
	Rows   []BrowserRow `json:"rows" description:"a row for each browser and version"`
	Stock  []Stock      `json:"stock"`
	// Changes of the last days, newest first.
	Changes []BrowserChange `json:"changes" description:"versions that came into the lab or left it, newest first"`
}

// BrowserChange is a version of a browser that came into the lab, or left it.
type BrowserChange struct {
	At      *time.Time `json:"at"`
	Agent   string     `json:"agent" description:"with which it came or went"`
	Browser string     `json:"browser"`
	Version string     `json:"version"`
	Channel string     `json:"channel"`
	Came    bool       `json:"came" description:"false when it went"`
}

// BrowserRow is one version of a browser.
type BrowserRow struct {
	Browser string                   `json:"browser"`
	Version string                   `json:"version"`
	Channel string                   `json:"channel"`
	StandIn bool                     `json:"stand_in" description:"only agents that stand in have it"`
	On      map[string]fleet.Browser `json:"on" description:"by agent; an agent without it is left out"`
}

// Stock is an installation that the service hands to agents.
type Stock struct {
	ID       string         `json:"id"`
	Name     string         `json:"name"`
	Archives []StockArchive `json:"archives"`
	Needs    fleet.Needs    `json:"needs" description:"which agents get it"`
	AddedBy  string         `json:"added_by"`
	AddedAt  *time.Time     `json:"added_at"`
	On       []StockOn      `json:"on" description:"what became of it on the agents that match"`
}

// StockArchive is one archive of an installation.
type StockArchive struct {
	Name string `json:"name" required:"true"`
	Hash string `json:"sha256" required:"true"`
	Size int64  `json:"size"`
}

// StockOn is where an installation is on one agent.
type StockOn struct {
	Agent  string     `json:"agent"`
	Online bool       `json:"online"`
	State  StockState `json:"state"`
	Done   int64      `json:"done" description:"bytes that were fetched"`
	Size   int64      `json:"size" description:"bytes of all archives"`
	Why    string     `json:"why" description:"why it was refused, or is not taken"`
}

// StockState is how far an agent is with an installation.
type StockState string

// The states, in their order.
const (
	StockWaiting   StockState = "waiting"   // the agent has said nothing of it yet
	StockFetching  StockState = "fetching"  // its archives are on their way
	StockUnpacking StockState = "unpacking" // they are unpacked and tried
	StockOffered   StockState = "offered"   // sessions can have it
	StockRefused   StockState = "refused"   // it is nothing for this agent: why says what is wrong
	StockUnwilling StockState = "unwilling" // the agent's own settings take nothing
)

// StockRequest stocks an installation whose archives have been sent before.
type StockRequest struct {
	Name     string         `json:"name,omitempty" description:"what people call it; taken from the archives unless given"`
	Archives []StockArchive `json:"archives" required:"true"`
	Needs    []string       `json:"needs,omitempty" description:"which agents get it, such as os=linux; all when there are none"`
}
