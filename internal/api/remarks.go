package api

import "time"

// What notes are of.
const (
	NoteRun   = "run"
	NoteTest  = "test"  // wherever the suite has it
	NoteCause = "cause" // wherever failures say the same
	// NoteSession is the one note that stands at a session; it is in no list of notes.
	NoteSession = "session"
)

// NoteRequest asks to keep a note.
type NoteRequest struct {
	Kind  string `json:"kind" required:"true" enum:"run,test,cause"`
	Test  int    `json:"test,omitempty" description:"its place in the run, of a test"`
	Cause string `json:"cause,omitempty" description:"its id in the run, of a cause"`
	Body  string `json:"body" required:"true" description:"Markdown, at most 16 KiB; @name mentions somebody"`
}

// Note is what somebody noted.
type Note struct {
	ID       string    `json:"id"`
	Project  string    `json:"project"`
	Suite    string    `json:"suite"`
	Kind     string    `json:"kind" enum:"run,test,cause"`
	Run      int       `json:"run" description:"in which it was noted"`
	Title    string    `json:"title" description:"of what it is about"`
	Body     string    `json:"body" description:"Markdown"`
	Mentions []string  `json:"mentions"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
}

// NoteFilter narrows a list of notes.
type NoteFilter struct {
	Project  string   `query:"project" json:"-"`
	Suite    string   `query:"suite" json:"-"`
	Run      int      `query:"run" json:"-" description:"only those that were noted in this run"`
	Mentions string   `query:"mentions" json:"-" description:"only those that mention this person"`
	Text     string   `query:"text" json:"-" description:"found in what it is about, what it says or whose it is"`
	Limit    int      `query:"limit" json:"-" description:"at most this many; 50 if not given, 500 at most"`
	Before   string   `json:"-"` // only those older than the one of this id
	Among    []string `json:"-"` // projects, those that the caller may look at; nil means every one
}
