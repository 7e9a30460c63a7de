// Package script is the test format *.pane.yaml: its parts, its parser and
// checks, and the runner that carries a test out against a Browser. It opens no
// browser; package webdrive drives one through WebDriver.
package script

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
)

// Script is one test file.
type Script struct {
	File  string
	Name  string
	Tags  []string
	Locks []string      // what no other test of the project may hold at the same time
	Wait  time.Duration // how long an action or expectation may wait; 0 means DefaultWait
	Data  *Data         // nil of a script that is one test
	Rows  []suite.Row   // of its data, which Parse does not read
	Steps []Step        // with those of its blocks
}

// Data makes a test of each row of a file.
type Data struct {
	source.Position
	File string // within the project
	Name *Text  // of a row, for people; nil takes its number and first value
}

// DefaultWait is how long a step waits for its element or expectation.
const DefaultWait = 6 * time.Second

// Action names what a step does. The actions are those in Actions.
type Action string

// Actions in the order of the documentation.
const (
	Visit   Action = "visit"
	Click   Action = "click"
	Enter   Action = "enter"
	Choose  Action = "choose"
	Press   Action = "press"
	Hover   Action = "hover"
	Upload  Action = "upload"
	Scroll  Action = "scroll"
	Dialog  Action = "dialog"
	Network Action = "network"
	Window  Action = "window"
	Do      Action = "do" // the steps of a block, which Parse puts in its place
	Keep    Action = "keep"
	Capture Action = "capture"
	Expect  Action = "expect"
)

// Actions lists every action.
var Actions = []Action{Visit, Click, Enter, Choose, Press, Hover, Upload, Scroll, Dialog, Network, Window, Do, Keep, Capture, Expect}

// Step is one action or expectation. Which fields carry its arguments depends
// on the action.
type Step struct {
	source.Position
	About  string // plain words for people; "" when the author gave none
	If     *Expr  // nil means always
	Within *Locator
	Frames []*Locator    // in which the step acts, each within the one before
	Wait   time.Duration // 0 means the script's
	Limit  time.Duration // over which it is told to be slow; 0: none
	Strict bool          // and fails
	In     *Call         // the use of a block that it stands in; nil in a script
	Call   *Call         // of a do
	Action Action

	Target *Locator // what is clicked, entered into, chosen from, read …
	Text   *Text    // address, text, option, key, path, name
	Read   string   // for keep: text, value, address, title, or attribute
	Attr   string   // for keep: the attribute
	Name   string   // for keep: the variable
	Expect *Expectation
}

// ExpectKind is what an expectation looks at.
type ExpectKind string

// What can be expected.
const (
	ExpectReads   ExpectKind = "reads"
	ExpectShown   ExpectKind = "shown"
	ExpectGone    ExpectKind = "gone"
	ExpectHolds   ExpectKind = "holds"
	ExpectNumber  ExpectKind = "number"
	ExpectAddress ExpectKind = "address"
	ExpectTitle   ExpectKind = "title"
	ExpectSaved   ExpectKind = "saved"
)

// Expectation is what must come true within the step's wait.
type Expectation struct {
	Kind   ExpectKind
	Target *Locator // the element, where the kind has one; nil for the whole page
	Want   *Text    // the text wanted, where the kind has one
	Number int
	How    string // contains, equals or matches (a regular expression)
}

// Locator says which element is meant.
type Locator struct {
	source.Position
	By     string // one of Ways
	Value  *Text
	Attr   string // the attribute's name, with attribute
	Name   *Text  // accessible name, with role
	Number int    // which of several visible matches, from 1; 0 means that there must be just one
}

// Ways are the ways a locator can point at an element.
var Ways = []string{"role", "label", "reads", "attribute", "marked", "css", "xpath"}

// DefaultMarker is the attribute that marks elements for tests where a project
// names no other.
const DefaultMarker = "data-mark"

func (l *Locator) String() string {
	if l == nil {
		return "the page"
	}
	s := l.By + " " + strconv.Quote(l.Value.Source)
	switch {
	case l.By == "role" && l.Name != nil:
		s = l.Value.Source + " " + strconv.Quote(l.Name.Source)
	case l.By == "role":
		s = l.Value.Source
	case l.By == "attribute":
		s = l.Attr + " " + strconv.Quote(l.Value.Source)
	}
	if l.Number > 0 {
		s += " (number " + strconv.Itoa(l.Number) + ")"
	}
	return s
}

// Title is the step in a few words, for lists, after the blocks that it stands in.
func (s Step) Title() string { return s.In.path() + s.title() }

func (s Step) title() string {
	if s.About != "" {
		return s.About
	}
	text := ""
	if s.Text != nil {
		text = strconv.Quote(s.Text.Source)
	}
	switch s.Action {
	case Visit:
		return "visit " + s.Text.Source
	case Enter:
		return "enter " + text + " into " + s.Target.String()
	case Choose:
		return "choose " + text + " from " + s.Target.String()
	case Press:
		if s.Target != nil {
			return "press " + s.Text.Source + " in " + s.Target.String()
		}
		return "press " + s.Text.Source
	case Upload:
		return "upload " + s.Text.Source + " into " + s.Target.String()
	case Scroll:
		if s.Target != nil {
			return "scroll to " + s.Target.String()
		}
		return "scroll to the " + s.Text.Source
	case Dialog:
		return "dialog: " + s.Read
	case Network:
		return "network: " + s.Text.Source
	case Window:
		if s.Text != nil {
			return "window of " + s.Read + " " + text
		}
		return "window: " + s.Read
	case Do:
		return s.Call.Block
	case Keep:
		from := s.Read
		if s.Target != nil {
			from += " of " + s.Target.String()
		}
		return "keep " + from + " as " + s.Name
	case Capture:
		return "capture " + s.Name
	case Expect:
		return s.Expect.title()
	}
	return string(s.Action) + " " + s.Target.String()
}

func (e Expectation) title() string {
	switch e.Kind {
	case ExpectShown, ExpectGone:
		return fmt.Sprintf("expect %s to be %s", e.Target, e.Kind)
	case ExpectNumber:
		return fmt.Sprintf("expect %d of %s", e.Number, e.Target)
	}
	if e.Kind == ExpectSaved {
		return fmt.Sprintf("expect that %q is saved", e.Want.Source)
	}
	want := map[string]string{"equals": "just ", "contains": "", "matches": "what matches "}[e.How] + strconv.Quote(e.Want.Source)
	if e.Kind == ExpectAddress || e.Kind == ExpectTitle {
		return fmt.Sprintf("expect the %s to be %s", e.Kind, want)
	}
	return fmt.Sprintf("expect that %s %s %s", e.Target, e.Kind, want)
}

// HasTag reports whether the script carries a tag.
func (s *Script) HasTag(tag string) bool { return slices.Contains(s.Tags, tag) }
