package api

import (
	"slices"
	"time"
)

// Kinds of what is shared.
const (
	ShareRun     = "run"
	ShareTest    = "test"
	ShareCause   = "cause" // with every test that it is in
	ShareSession = "session"
	ShareBadge   = "badge" // a picture of how a suite stands, for pages elsewhere
)

// Share is what a share link shows: a run, a test or a cause of it, a session or the badge of a suite,
// with what belongs to it, and nothing else.
type Share struct {
	Kind    string `json:"kind" enum:"run,test,cause,session,badge"`
	Project string `json:"project"`
	Suite   string `json:"suite" description:"with kind badge"`
	Run     int    `json:"run"`
	Test    int    `json:"test" description:"its place in the run, with kind test"`
	Session string `json:"session" description:"its id, with kind session"`
	Cause   string `json:"cause" description:"its id in the run, with kind cause"`
	Tests   []int  `json:"tests" description:"places of the tests that a cause is in, with kind cause"`
	Path    string `json:"path" description:"of the page in the console"`
	About   string `json:"about" description:"for people"`
}

// Shows reports whether a link shows a test of its run, by its place.
func (s Share) Shows(test int) bool {
	return s.Kind == ShareRun || s.Kind == ShareTest && test == s.Test || s.Kind == ShareCause && slices.Contains(s.Tests, test)
}

// ShareRequest asks for a share link.
type ShareRequest struct {
	Kind    string    `json:"kind" required:"true" enum:"run,test,cause,session,badge"`
	Project string    `json:"project,omitempty" description:"of a badge"`
	Suite   string    `json:"suite,omitempty" description:"of a badge"`
	Run     int       `json:"run,omitempty" description:"of a run, a test or a cause"`
	Test    int       `json:"test,omitempty" description:"its place in the run, from 0"`
	Session string    `json:"session,omitempty"`
	Cause   string    `json:"cause,omitempty" description:"its id in the run"`
	Until   time.Time `json:"until" required:"true" description:"when the link ends: at most a year from now"`
}

// ShareLink is a share link.
type ShareLink struct {
	ID     string     `json:"id"`
	Share  Share      `json:"share"`
	By     string     `json:"by"`
	MadeAt *time.Time `json:"made_at"`
	Until  *time.Time `json:"until"`
	UsedAt *time.Time `json:"used_at" description:"when it was last used; null for never"`
	Ended  bool       `json:"ended" description:"its time is over"`
}

// NewShare is a share link that was just made.
type NewShare struct {
	ShareLink
	Address string `json:"address" description:"whoever has it sees what it shows; shown this once"`
}

// ShareFilter narrows a list of share links.
type ShareFilter struct {
	Project string   `query:"project" json:"-"`
	Run     int      `query:"run" json:"-"`
	Among   []string `json:"-"` // projects, those that the caller may look at; nil means every one
}
