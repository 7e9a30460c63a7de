package api

import "time"

// What may be heard of.
const (
	OfFailed  = "failed"  // runs that failed, or that the lab failed
	OfChanged = "changed" // runs that came to another verdict than the run before of the same matrix and environment
	OfEnded   = "ended"   // every run
	OfDaily   = "daily"   // once a day what became of the runs of the day before
	OfTrial   = "trial"   // a try, asked for by hand
)

// Ways of hearing.
const (
	MailKind = "mail"
	HookKind = "hook" // a CloudEvent, sent to an address of the web
)

// SubscriptionRequest asks that somebody hears of something.
type SubscriptionRequest struct {
	Project string   `json:"project" required:"true"`
	Suite   string   `json:"suite,omitempty" description:"only of this suite"`
	Kind    string   `json:"kind" required:"true" enum:"mail,hook"`
	Target  string   `json:"target" required:"true" description:"a mail address, or an address of the web"`
	Of      []string `json:"of" required:"true" description:"failed, changed, ended or daily"`
}

// Subscription says who hears of what.
type Subscription struct {
	ID      string    `json:"id"`
	Project string    `json:"project"`
	Suite   string    `json:"suite" description:"empty for every one"`
	Kind    string    `json:"kind" enum:"mail,hook"`
	Target  string    `json:"target" description:"of a hook its host alone: the rest of its address may be a secret"`
	Of      []string  `json:"of"`
	By      string    `json:"by"`
	MadeAt  time.Time `json:"made_at"`
	Paused  bool      `json:"paused"`
}

// NewSubscription is one that was just made.
type NewSubscription struct {
	Subscription
	Key string `json:"key" description:"of a hook: what its messages are signed with (RFC 9421, hmac-sha256); shown this once. Empty for mail"`
}

// SubscriptionFilter narrows a list of subscriptions.
type SubscriptionFilter struct {
	Project string   `query:"project" json:"-"`
	Among   []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// States of deliveries.
const (
	Awaiting = "waiting"
	Sent     = "sent"
	GivenUp  = "given-up"
)

// Delivery is something that was sent, or is to be.
type Delivery struct {
	ID           string     `json:"id"`
	Subscription string     `json:"subscription" description:"its id, or the tracker's"`
	Kind         string     `json:"kind" description:"mail, hook or tracker; empty where that is gone"`
	Target       string     `json:"target"`
	Of           string     `json:"of" enum:"failed,changed,ended,daily,trial,defect,back,mention"`
	Project      string     `json:"project"`
	Run          int        `json:"run" description:"0 where it is about no run"`
	State        string     `json:"state" enum:"waiting,sent,given-up"`
	Tries        int        `json:"tries"`
	MadeAt       *time.Time `json:"made_at"`
	NextAt       *time.Time `json:"next_at" description:"the next try; null unless it waits"`
	DoneAt       *time.Time `json:"done_at"`
	Answer       string     `json:"answer" description:"to the last try"`
}

// DeliveryFilter narrows a list of deliveries.
type DeliveryFilter struct {
	Project      string   `query:"project" json:"-"`
	Subscription string   `query:"subscription" json:"-"`
	State        string   `query:"state" json:"-" enum:"waiting,sent,given-up"`
	Run          int      `query:"run" json:"-"`
	BeforeAt     int64    `json:"-"` // only those made before this time, in ms since 1970, or
	Before       string   `json:"-"` // at it, with an id after this one
	Limit        int      `query:"limit" json:"-" description:"at most this many; 50 if not given, 500 at most"`
	Among        []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// RunNotice is what a hook is told of a run: the data of its CloudEvent.
type RunNotice struct {
	Run    RunSummary `json:"run"`
	Words  Words      `json:"words"`
	Causes []Cause    `json:"causes" description:"the weightiest ten"`
	Was    string     `json:"was" description:"verdict of the run before of the same matrix and environment; empty for none"`
	Link   string     `json:"link" description:"of the run in the console; empty where the service does not know its address"`
}

// DayNotice is what a hook is told of a day.
type DayNotice struct {
	Day   string       `json:"day"`
	Runs  []RunSummary `json:"runs"`
	Words Words        `json:"words"`
	Link  string       `json:"link"`
}
