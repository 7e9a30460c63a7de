package api

import (
	"encoding/json"
	"time"

	"parallelpane/internal/core/form"
)

// What trackers are told of, besides what may be heard of.
const (
	OfDefect = "defect" // a defect, to be filed
	OfBack   = "back"   // a cause that is back though it has a defect
)

// TrackerKind is the way to a tracker.
const TrackerKind = "tracker"

// TrackerRequest describes a tracker.
type TrackerRequest struct {
	Project string          `json:"project" required:"true"`
	Name    string          `json:"name" required:"true"`
	Address string          `json:"address" required:"true" description:"gives the form as JSON Schema, and takes the filled form"`
	Secret  string          `json:"secret,omitempty" description:"sent with each request in the header; kept sealed, never shown"`
	Header  string          `json:"header,omitempty" description:"that takes the secret; Authorization if not given, after Bearer"`
	Mapping *TrackerMapping `json:"mapping,omitempty" description:"for a tracker that wants another form of JSON"`
}

// TrackerMapping says how a tracker speaks that does not speak as the lab does.
type TrackerMapping struct {
	Form   json.RawMessage  `json:"form,omitempty" description:"JSON Schema, of a tracker that gives none"`
	Send   json.RawMessage  `json:"send,omitempty" description:"what is sent in place of the filled form: JSON with ${field} in its texts"`
	Answer TrackerAnswer    `json:"answer,omitzero" description:"where in its answers is what"`
	Place  string           `json:"place,omitempty" description:"where it is asked of a defect: an address with ${key}"`
	Search string           `json:"search,omitempty" description:"where it is asked for defects like one: an address with ${text}"`
	Closed []string         `json:"closed,omitempty" description:"states that mean that a defect is done with"`
	Back   *TrackerBackward `json:"back,omitempty" description:"how it is told that a cause is back; nothing tells it so if not given"`
}

// TrackerAnswer are JSON Pointers into what a tracker answers.
type TrackerAnswer struct {
	Key    string `json:"key,omitempty"`
	Link   string `json:"link,omitempty" description:"for people; may be an address with ${key} instead"`
	Status string `json:"status,omitempty"`
	Title  string `json:"title,omitempty"`
	List   string `json:"list,omitempty" description:"of what a search found; the whole answer if not given"`
}

// TrackerBackward is how a tracker is told that a cause is back.
type TrackerBackward struct {
	Address string          `json:"address" description:"with ${key}"`
	Send    json.RawMessage `json:"send" description:"JSON with ${title}, ${words}, ${run} or ${link} in its texts"`
}

// Tracker is where a project's defects are filed.
type Tracker struct {
	ID      string          `json:"id"`
	Project string          `json:"project"`
	Name    string          `json:"name"`
	Address string          `json:"address" description:"as far as everybody may see it"`
	Mapping *TrackerMapping `json:"mapping" description:"null where it speaks as the lab does"`
	By      string          `json:"by"`
	MadeAt  time.Time       `json:"made_at"`
}

// Shown is a tracker as those see it who do not keep its project: that it has a mapping, and
// not the addresses in it.
func (t Tracker) Shown() Tracker {
	if t.Mapping != nil {
		t.Mapping = &TrackerMapping{}
	}
	return t
}

// TrackerFilter narrows a list of trackers.
type TrackerFilter struct {
	Project string   `query:"project" json:"-"`
	Among   []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// States of defects.
const (
	Filed   = "filed"
	Refused = "refused"
)

// Defect is a defect of a cause, in a tracker.
type Defect struct {
	ID        string     `json:"id"`
	Project   string     `json:"project"`
	Suite     string     `json:"suite"`
	Signature string     `json:"signature" description:"of its cause, in every run"`
	Run       int        `json:"run" description:"in which it was filed"`
	Cause     string     `json:"cause" description:"id of the cause in that run"`
	Title     string     `json:"title"`
	Tracker   string     `json:"tracker" description:"its name; empty where it was dropped"`
	TrackerID string     `json:"tracker_id"`
	State     string     `json:"state" enum:"waiting,filed,refused" description:"whether the tracker has it"`
	Key       string     `json:"key" description:"what the tracker calls it"`
	Link      string     `json:"link" description:"in the tracker; may be empty"`
	Status    string     `json:"status" description:"as the tracker says it"`
	Closed    bool       `json:"closed" description:"it is done with, as the tracker says"`
	AskedAt   *time.Time `json:"asked_at" description:"when the tracker was last asked how it stands"`
	Trouble   string     `json:"trouble" description:"why it is not filed, or why the tracker could not be asked"`
	Told      int        `json:"told" description:"the newest run of which the tracker was told that the cause is back; 0 for none"`
	By        string     `json:"by"`
	MadeAt    time.Time  `json:"made_at"`
}

// DefectFilter narrows a list of defects.
type DefectFilter struct {
	Project string   `query:"project" json:"-"`
	Suite   string   `query:"suite" json:"-"`
	Tracker string   `query:"tracker" json:"-" description:"id of one"`
	State   string   `query:"state" json:"-" enum:"waiting,refused,open,closed"`
	Text    string   `query:"text" json:"-" description:"found in title, key, status or whose it is"`
	Limit   int      `query:"limit" json:"-" description:"at most this many; 50 if not given, 500 at most"`
	Before  string   `json:"-"` // only those older than the one of this id
	Among   []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// DefectForm is a tracker's form, filled in with what is known of a cause.
type DefectForm struct {
	Tracker  Tracker         `json:"tracker"`
	Trackers []Tracker       `json:"trackers" description:"every one of the project"`
	Schema   json.RawMessage `json:"schema" description:"JSON Schema"`
	Values   map[string]any  `json:"values"`
	Pictures int             `json:"pictures" description:"that go with it themselves, as the form wants"`
	Missing  []form.Problem  `json:"missing" description:"what is still to be filled in"`
	Defect   *Defect         `json:"defect" description:"that the cause has already; null for none"`
	Like     []LikeDefect    `json:"like" description:"that may be the same"`
	Trouble  string          `json:"trouble" description:"why the tracker could not be asked for defects like it"`
}

// LikeDefect is a defect that may be of the same cause.
type LikeDefect struct {
	Key    string `json:"key"`
	Title  string `json:"title"`
	Link   string `json:"link"`
	Status string `json:"status"`
	Why    string `json:"why" description:"the tracker found it, or it is of a cause of which the lab has it"`
}

// DefectRequest asks to file a defect, or says which one it is.
type DefectRequest struct {
	Tracker string         `json:"tracker,omitempty" description:"id; the project's only one if not given"`
	Values  map[string]any `json:"values,omitempty" description:"the filled form; what is known is filled in where a field is not given"`
	Same    string         `json:"same,omitempty" description:"key of a defect that the tracker has: nothing is filed"`
	Anyway  bool           `json:"anyway,omitempty" description:"file it though there is one that is most probably the same"`
}

// CausePage is one cause of a run, with where it is and what was kept of it.
type CausePage struct {
	Run      RunSummary  `json:"run"`
	Cause    Cause       `json:"cause"`
	Cells    []CauseCell `json:"cells" description:"at most 500"`
	Step     string      `json:"step" description:"at which one of them failed; empty where that is not known"`
	File     string      `json:"file" description:"of that step"`
	Line     int         `json:"line"`
	Pictures []CauseShot `json:"pictures" description:"of pages when they failed, at most three"`
}

// CauseCell is a cell of a cause.
type CauseCell struct {
	Pane  int    `json:"pane"`
	Test  int    `json:"test"`
	Label string `json:"label" description:"of the pane"`
	Name  string `json:"name" description:"of the test"`
	Cell
}

// CauseShot is a picture of a page that failed.
type CauseShot struct {
	Attempt string `json:"attempt"`
	Name    string `json:"name" description:"of the file"`
	Label   string `json:"label" description:"of the pane"`
	Test    string `json:"test"`
}
