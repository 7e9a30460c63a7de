package script

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/traffic"

	"go.yaml.in/yaml/v3"
)

// MaxFileBytes bounds a script or project file.
const MaxFileBytes = 1 << 20

// Suffix ends the name of every script file.
const Suffix = suite.ScriptSuffix

// Parse reads a script that may use the blocks of a library. The error is Problems.
func Parse(file string, src []byte, blocks *Library) (*Script, error) {
	root, problem := Document(file, src)
	if problem != nil {
		return nil, source.Problems{*problem}
	}
	p := &parser{Reader: Reader{File: file}}
	s := p.script(root)
	if len(p.Problems) > 0 {
		return nil, p.Problems
	}
	for _, st := range s.Steps {
		if names := st.Uses("given"); len(names) > 0 {
			p.Problems = append(p.Problems, source.Problem{Position: st.Position,
				Message: fmt.Sprintf("given.%s: only the steps of a block are given something", names[0])})
		}
	}
	x := expansion{library: blocks}
	x.steps(s.Steps, nil)
	s.Steps = x.out
	if p.Problems = append(p.Problems, x.problems...); len(p.Problems) > 0 {
		return nil, p.Problems
	}
	return s, nil
}

var yamlLine = regexp.MustCompile(`^yaml: (?:unmarshal errors:\s*)?line (\d+): (.*)$`)

// Document parses YAML and returns its root node.
func Document(file string, src []byte) (*yaml.Node, *source.Problem) {
	at := source.Position{File: file, Line: 1, Column: 1}
	if len(src) > MaxFileBytes {
		return nil, &source.Problem{Position: at, Message: fmt.Sprintf("the file has %d bytes; at most %d are read", len(src), MaxFileBytes)}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(src, &doc); err != nil {
		message := strings.TrimPrefix(err.Error(), "yaml: ")
		if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
			at.Line, _ = strconv.Atoi(m[1])
			message = m[2]
		}
		return nil, &source.Problem{Position: at, Message: "not valid YAML: " + message}
	}
	if len(doc.Content) == 0 {
		return nil, &source.Problem{Position: at, Message: "the file is empty: expected a mapping with name and steps"}
	}
	return doc.Content[0], nil
}

// Reader walks YAML nodes and gathers what is wrong with them, each with its
// place.
type Reader struct {
	File     string
	Problems source.Problems
}

// At is the place of a node.
func (r *Reader) At(n *yaml.Node) source.Position {
	return source.Position{File: r.File, Line: n.Line, Column: n.Column}
}

// Fail notes a problem at a node.
func (r *Reader) Fail(n *yaml.Node, format string, args ...any) {
	r.Problems = append(r.Problems, source.Problem{Position: r.At(n), Message: fmt.Sprintf(format, args...)})
}

// Entry is one key of a mapping with its value.
type Entry struct {
	Key   string
	Node  *yaml.Node // the key
	Value *yaml.Node
}

// Mapping returns the entries of a mapping in order; what names the thing in
// the error when it is something else, or holds a key twice.
func (r *Reader) Mapping(n *yaml.Node, what string) []Entry {
	n = resolve(n)
	if n.Kind != yaml.MappingNode {
		r.Fail(n, "%s: expected a mapping, found %s", what, kindOf(n))
		return nil
	}
	var out []Entry
	for i := 0; i+1 < len(n.Content); i += 2 {
		e := Entry{n.Content[i].Value, n.Content[i], n.Content[i+1]}
		if slices.ContainsFunc(out, func(o Entry) bool { return o.Key == e.Key }) {
			r.Fail(e.Node, "%s: %q is given twice", what, e.Key)
			continue
		}
		out = append(out, e)
	}
	return out
}

// List returns the items of a sequence.
func (r *Reader) List(n *yaml.Node, what string) []*yaml.Node {
	n = resolve(n)
	if n.Kind != yaml.SequenceNode {
		r.Fail(n, "%s: expected a list, found %s", what, kindOf(n))
		return nil
	}
	return n.Content
}

// String returns a scalar as written; numbers and booleans are taken as text.
func (r *Reader) String(n *yaml.Node, what string) string {
	n = resolve(n)
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.Fail(n, "%s: expected text, found %s", what, kindOf(n))
		return ""
	}
	return n.Value
}

// Strings returns a list of texts; a single text is a list of one.
func (r *Reader) Strings(n *yaml.Node, what string) []string {
	if m := resolve(n); m.Kind == yaml.ScalarNode && m.Tag != "!!null" {
		return []string{m.Value}
	}
	var out []string
	for _, item := range r.List(n, what) {
		out = append(out, r.String(item, what))
	}
	return out
}

// Duration returns a duration such as 500ms, 10s or 2m.
func (r *Reader) Duration(n *yaml.Node, what string) time.Duration {
	s := r.String(n, what)
	d, err := time.ParseDuration(s)
	if s != "" && (err != nil || d <= 0) {
		r.Fail(n, "%s: expected a time such as 500ms, 10s or 2m, found %q", what, s)
		return 0
	}
	return d
}

// Unknown notes a key that has no meaning, with those that have.
func (r *Reader) Unknown(e Entry, what string, known ...string) {
	hint := ""
	if near := source.Nearest(e.Key, known); near != "" {
		hint = fmt.Sprintf(" (did you mean %q?)", near)
	}
	r.Fail(e.Node, "%s: unknown key %q%s; expected %s", what, e.Key, hint, strings.Join(known, ", "))
}

func resolve(n *yaml.Node) *yaml.Node {
	for n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	return n
}

func kindOf(n *yaml.Node) string {
	switch {
	case n.Kind == yaml.MappingNode:
		return "a mapping"
	case n.Kind == yaml.SequenceNode:
		return "a list"
	case n.Tag == "!!null":
		return "nothing"
	}
	return strconv.Quote(n.Value)
}

type parser struct{ Reader }

func (p *parser) script(root *yaml.Node) *Script {
	s := &Script{File: p.File}
	for _, e := range p.Mapping(root, "script") {
		switch e.Key {
		case "name":
			s.Name = strings.TrimSpace(p.String(e.Value, "name"))
		case "tags":
			s.Tags = p.Strings(e.Value, "tags")
		case "locks":
			s.Locks = p.Strings(e.Value, "locks")
		case "wait":
			s.Wait = p.Duration(e.Value, "wait")
		case "data":
			s.Data = p.data(e.Value)
		case "steps":
			s.Steps = p.steps(e.Value)
		default:
			p.Unknown(e, "script", "name", "tags", "locks", "wait", "data", "steps")
		}
	}
	if len(p.Problems) == 0 {
		if s.Name == "" {
			p.Fail(root, "script: expected a name")
		}
		if len(s.Steps) == 0 {
			p.Fail(root, "script: expected at least one step")
		}
	}
	return s
}

// Data reads where rows come from.
func (r *Reader) Data(n *yaml.Node) *Data {
	p := parser{Reader: *r}
	d := p.data(n)
	r.Problems = p.Problems
	return d
}

// data reads where a script's rows come from.
func (p *parser) data(n *yaml.Node) *Data {
	d := &Data{Position: p.At(n)}
	if resolve(n).Kind == yaml.ScalarNode {
		d.File = p.String(n, "data")
	} else if f := p.fields(n, "data", "file", "?name"); f != nil {
		d.File = p.String(f["file"], "file")
		if f["name"] != nil {
			d.Name = p.text(f["name"], "name")
		}
	}
	if d.File != "" && (path.IsAbs(d.File) || slices.Contains(strings.Split(d.File, "/"), "..")) {
		p.Fail(n, "data: the file must lie within the project: %q", d.File)
	}
	return d
}

func (p *parser) steps(n *yaml.Node) (out []Step) {
	for _, n := range p.List(n, "steps") {
		if st, ok := p.step(n); ok {
			out = append(out, st)
		}
	}
	return out
}

func (p *parser) step(n *yaml.Node) (Step, bool) {
	before := len(p.Problems)
	s := Step{Position: p.At(n)}
	known := []string{"about", "if", "within", "frame", "with", "wait", "limit"}
	var with *Entry
	for _, a := range Actions {
		known = append(known, string(a))
	}
	var action *Entry
	for _, e := range p.Mapping(n, "step") {
		switch {
		case e.Key == "about":
			s.About = p.String(e.Value, "about")
		case e.Key == "if":
			cond, err := CompileCondition(p.String(e.Value, "if"))
			if err != nil {
				p.Fail(e.Value, "if: %v", err)
			}
			s.If = cond
		case e.Key == "within":
			s.Within = p.locator(e.Value, "within")
		case e.Key == "frame":
			s.Frames = p.frames(e.Value)
		case e.Key == "with":
			with = &e
		case e.Key == "wait":
			s.Wait = p.Duration(e.Value, "wait")
		case e.Key == "limit":
			p.limit(&s, e)
		case slices.Contains(Actions, Action(e.Key)):
			if action != nil {
				p.Fail(e.Node, "step: %s and %s in one step; write two steps", action.Key, e.Key)
				continue
			}
			action = &e
		default:
			p.Unknown(e, "step", known...)
		}
	}
	if action == nil {
		if len(p.Problems) == before {
			p.Fail(n, "step: expected one of %s", strings.Join(known[7:], ", "))
		}
		return s, false
	}
	s.Action = Action(action.Key)
	switch {
	case s.Action == Do:
		p.do(&s, action.Value, with)
	case with != nil:
		p.Fail(with.Node, "with: goes with do only")
	default:
		p.action(&s, action.Value)
	}
	return s, len(p.Problems) == before
}

// do reads the call of a block.
func (p *parser) do(s *Step, n *yaml.Node, with *Entry) {
	s.Call = &Call{Position: s.Position, Block: strings.TrimSpace(p.String(n, "do")), With: map[string]*Text{}}
	if s.Within != nil || s.Frames != nil || s.Wait != 0 {
		p.Fail(n, "do: within, frame and wait belong to the steps of the block")
	}
	if with == nil {
		return
	}
	for _, e := range p.Mapping(with.Value, "with") {
		s.Call.With[e.Key] = p.text(e.Value, e.Key)
	}
}

// maxFrames bounds how deep a step reaches.
const maxFrames = 10

// frames reads one locator, or a list of them, each within the frame before.
func (p *parser) frames(n *yaml.Node) (out []*Locator) {
	if resolve(n).Kind != yaml.SequenceNode {
		return []*Locator{p.locator(n, "frame")}
	}
	for _, item := range p.List(n, "frame") {
		out = append(out, p.locator(item, "frame"))
	}
	if len(out) == 0 || len(out) > maxFrames {
		p.Fail(n, "frame: expected 1 to %d locators", maxFrames)
	}
	return out
}

// window reads which window the test goes on in.
func (p *parser) window(s *Step, n *yaml.Node) {
	if resolve(n).Kind == yaml.ScalarNode {
		s.Read = p.String(n, "window")
		if !slices.Contains([]string{"new", "first", "close"}, s.Read) {
			p.Fail(n, "window: expected new, first, close, title: TEXT or address: TEXT, found %q", s.Read)
		}
		return
	}
	entries := p.Mapping(n, "window")
	if len(entries) != 1 || entries[0].Key != "title" && entries[0].Key != "address" {
		p.Fail(n, "window: expected new, first, close, title: TEXT or address: TEXT")
		return
	}
	s.Read, s.Text = entries[0].Key, p.text(entries[0].Value, entries[0].Key)
}

// fields reads a mapping whose keys are all known and, but for the optional
// ones (written with a "?" in front), all there.
func (p *parser) fields(n *yaml.Node, what string, names ...string) map[string]*yaml.Node {
	before := len(p.Problems)
	got := map[string]*yaml.Node{}
	plain := make([]string, len(names))
	for i, name := range names {
		plain[i] = strings.TrimPrefix(name, "?")
	}
	for _, e := range p.Mapping(n, what) {
		if slices.Contains(plain, e.Key) {
			got[e.Key] = e.Value
		} else {
			p.Unknown(e, what, plain...)
		}
	}
	if len(p.Problems) > before {
		return nil
	}
	for i, name := range names {
		if plain[i] == name && got[name] == nil {
			p.Fail(n, "%s: expected %s", what, name)
			return nil
		}
	}
	return got
}

func (p *parser) action(s *Step, n *yaml.Node) {
	what := string(s.Action)
	switch s.Action {
	case Visit:
		s.Text = p.text(n, what)
	case Click, Hover:
		s.Target = p.locator(n, what)
	case Enter:
		p.pair(s, n, "text")
	case Choose:
		p.pair(s, n, "option")
	case Upload:
		p.pair(s, n, "file")
		if s.Text != nil && (path.IsAbs(s.Text.Source) || slices.Contains(strings.Split(s.Text.Source, "/"), "..")) {
			p.Fail(n, "upload: the file must lie within the project: %q", s.Text.Source)
		}
	case Press:
		if resolve(n).Kind == yaml.ScalarNode {
			s.Text = p.text(n, what)
		} else {
			p.pair(s, n, "key")
		}
		if s.Text != nil {
			if _, err := Keys(s.Text.Source); err != nil && !strings.Contains(s.Text.Source, "${") {
				p.Fail(n, "press: %v", err)
			}
		}
	case Scroll:
		if resolve(n).Kind == yaml.ScalarNode {
			s.Text = p.text(n, what)
			if s.Text != nil && s.Text.Source != "top" && s.Text.Source != "bottom" {
				p.Fail(n, "scroll: expected top, bottom or at: LOCATOR, found %q", s.Text.Source)
			}
		} else if f := p.fields(n, what, "at"); f != nil {
			s.Target = p.locator(f["at"], "scroll")
		}
	case Dialog:
		p.dialog(s, n)
	case Network:
		if s.Text = p.text(n, what); s.Text != nil && !strings.Contains(s.Text.Source, "${") {
			if _, err := traffic.Parse(s.Text.Source); err != nil {
				p.Fail(n, "network: %v", err)
			}
		}
	case Window:
		p.window(s, n)
	case Keep:
		p.keep(s, n)
	case Capture:
		s.Name = p.String(n, what)
		if s.Name != "" && !nameForm.MatchString(s.Name) {
			p.Fail(n, "capture: %q: a name has letters, digits, '-' and '_' only, at most 60", s.Name)
		}
	case Expect:
		s.Expect = p.expectation(n)
	}
}

var nameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{0,59}$`)

// pair reads {at: LOCATOR, …: TEXT}, the text under the action's own key.
func (p *parser) pair(s *Step, n *yaml.Node, text string) {
	if f := p.fields(n, string(s.Action), "at", text); f != nil {
		s.Target = p.locator(f["at"], "at")
		s.Text = p.text(f[text], text)
	}
}

func (p *parser) dialog(s *Step, n *yaml.Node) {
	if resolve(n).Kind == yaml.ScalarNode {
		s.Read = p.String(n, "dialog")
		if s.Read != "accept" && s.Read != "dismiss" {
			p.Fail(n, "dialog: expected accept, dismiss or answer: TEXT, found %q", s.Read)
		}
		return
	}
	if f := p.fields(n, "dialog", "answer"); f != nil {
		s.Read, s.Text = "accept", p.text(f["answer"], "answer")
	}
}

func (p *parser) keep(s *Step, n *yaml.Node) {
	f := p.fields(n, "keep", "as", "?at", "?read")
	if f == nil {
		return
	}
	s.Name = p.String(f["as"], "as")
	if !variableForm.MatchString(s.Name) {
		p.Fail(f["as"], "as: %q is not a variable name: letters, digits and '_', not starting with a digit", s.Name)
	}
	s.Read = "text"
	if f["read"] != nil {
		s.Read = p.String(f["read"], "read")
	}
	if attr, ok := strings.CutPrefix(s.Read, "attribute "); ok {
		s.Read, s.Attr = "attribute", strings.TrimSpace(attr)
	}
	page := s.Read == "address" || s.Read == "title"
	switch {
	case !page && s.Read != "text" && s.Read != "value" && (s.Read != "attribute" || s.Attr == ""):
		p.Fail(f["read"], "read: expected text, value, attribute NAME, address or title, found %q", s.Read)
	case page && f["at"] != nil:
		p.Fail(f["at"], "at: the %s belongs to the page, not to an element", s.Read)
	case !page && f["at"] == nil:
		p.Fail(n, "keep: expected at")
	case f["at"] != nil:
		s.Target = p.locator(f["at"], "at")
	}
}

var variableForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

var expectKinds = []string{"reads", "shown", "gone", "holds", "number", "address", "title", "saved"}

func (p *parser) expectation(n *yaml.Node) *Expectation {
	if resolve(n).Kind == yaml.ScalarNode { // expect: TEXT is short for expect: {reads: TEXT}
		return &Expectation{Kind: ExpectReads, How: "contains", Want: p.text(n, "expect")}
	}
	before := len(p.Problems)
	e := &Expectation{}
	var at, of *Entry
	for _, entry := range p.Mapping(n, "expect") {
		switch {
		case entry.Key == "at":
			at = &entry
		case entry.Key == "of":
			of = &entry
		case !slices.Contains(expectKinds, entry.Key):
			p.Unknown(entry, "expect", append(slices.Clone(expectKinds), "at", "of")...)
		case e.Kind != "":
			p.Fail(entry.Node, "expect: %s and %s in one step; write two steps", e.Kind, entry.Key)
		default:
			e.Kind = ExpectKind(entry.Key)
			p.wanted(e, entry.Value)
		}
	}
	if len(p.Problems) > before {
		return nil
	}
	if e.Kind == "" {
		p.Fail(n, "expect: expected one of %s", strings.Join(expectKinds, ", "))
		return nil
	}
	p.subject(n, e, at, of)
	return e
}

// wanted reads the value of an expectation's kind.
func (p *parser) wanted(e *Expectation, n *yaml.Node) {
	switch e.Kind {
	case ExpectShown, ExpectGone:
		e.Target = p.locator(n, string(e.Kind))
	case ExpectNumber:
		s := p.String(n, "number")
		number, err := strconv.Atoi(s)
		if err != nil || number < 0 {
			p.Fail(n, "number: expected a whole number, found %q", s)
		}
		e.Number = number
	default:
		e.How = "equals"
		if e.Kind == ExpectReads {
			e.How = "contains"
		}
		if resolve(n).Kind != yaml.MappingNode {
			e.Want = p.text(n, string(e.Kind))
			return
		}
		entries := p.Mapping(n, string(e.Kind))
		hows := []string{"contains", "equals", "matches"}
		if len(entries) != 1 || !slices.Contains(hows, entries[0].Key) {
			p.Fail(n, "%s: expected text, or one of %s", e.Kind, strings.Join(hows, ", "))
			return
		}
		e.How = entries[0].Key
		e.Want = p.text(entries[0].Value, e.How)
		if e.How == "matches" && e.Want != nil {
			if _, err := regexp.Compile(e.Want.Source); err != nil && !strings.Contains(e.Want.Source, "${") {
				p.Fail(entries[0].Value, "matches: %v", err)
			}
		}
	}
}

// limit reads how long a step may take: a time, or one with what comes of taking longer.
func (p *parser) limit(s *Step, e Entry) {
	if resolve(e.Value).Kind != yaml.MappingNode {
		s.Limit = p.Duration(e.Value, "limit")
		return
	}
	for _, x := range p.Mapping(e.Value, "limit") {
		switch x.Key {
		case "time":
			s.Limit = p.Duration(x.Value, "time")
		case "fail":
			switch v := p.String(x.Value, "fail"); v {
			case "true", "false":
				s.Strict = v == "true"
			default:
				p.Fail(x.Value, "fail: expected true or false, found %q", v)
			}
		default:
			p.Unknown(x, "limit", "time", "fail")
		}
	}
	if s.Limit == 0 && len(p.Problems) == 0 {
		p.Fail(e.Value, "limit: expected a time such as 2s, or {time: 2s, fail: true}")
	}
}

// subject checks which of at and of an expectation may and must have.
func (p *parser) subject(n *yaml.Node, e *Expectation, at, of *Entry) {
	switch {
	case of != nil && e.Kind != ExpectNumber:
		p.Fail(of.Node, "expect: of goes with number only")
	case of == nil && e.Kind == ExpectNumber:
		p.Fail(n, "expect: number needs of: LOCATOR")
	case at != nil && e.Kind != ExpectReads && e.Kind != ExpectHolds:
		p.Fail(at.Node, "expect: at goes with reads and holds only")
	case at == nil && e.Kind == ExpectHolds:
		p.Fail(n, "expect: holds needs at: LOCATOR")
	case of != nil:
		e.Target = p.locator(of.Value, "of")
	case at != nil:
		e.Target = p.locator(at.Value, "at")
	}
}

func (p *parser) text(n *yaml.Node, what string) *Text {
	before := len(p.Problems)
	s := p.String(n, what)
	if len(p.Problems) > before {
		return nil
	}
	t, err := ParseText(s)
	if err != nil {
		p.Fail(n, "%s: %v", what, err)
		return nil
	}
	return t
}

func (p *parser) locator(n *yaml.Node, what string) *Locator {
	l := &Locator{Position: p.At(n), By: "reads"}
	if resolve(n).Kind == yaml.ScalarNode {
		l.Value = p.text(n, what)
		return l
	}
	l.By = ""
	for _, e := range p.Mapping(n, what) {
		switch {
		case slices.Contains(Ways, e.Key):
			if l.By != "" {
				p.Fail(e.Node, "%s: %s and %s in one locator; give one and narrow it with within", what, l.By, e.Key)
				continue
			}
			l.By = e.Key
			p.pointer(l, e)
		case e.Key == "name":
			l.Name = p.text(e.Value, "name")
		case e.Key == "number":
			number, err := strconv.Atoi(p.String(e.Value, "number"))
			if err != nil || number < 1 {
				p.Fail(e.Value, "number: expected 1 or more, found %s", kindOf(e.Value))
			}
			l.Number = number
		default:
			p.Unknown(e, what, append(slices.Clone(Ways), "name", "number")...)
		}
	}
	if l.By == "" && len(p.Problems) == 0 {
		p.Fail(n, "%s: expected one of %s", what, strings.Join(Ways, ", "))
	}
	if l.Name != nil && l.By != "" && l.By != "role" {
		p.Fail(n, "%s: name goes with role only", what)
	}
	return l
}

// pointer reads the value of a locator's way: a text or, for an attribute, its
// name and its text.
func (p *parser) pointer(l *Locator, e Entry) {
	if e.Key != "attribute" {
		l.Value = p.text(e.Value, e.Key)
		return
	}
	entries := p.Mapping(e.Value, "attribute")
	switch {
	case len(entries) == 1 && AttributeForm.MatchString(entries[0].Key):
		l.Attr, l.Value = entries[0].Key, p.text(entries[0].Value, entries[0].Key)
	case len(entries) == 1:
		p.Fail(entries[0].Node, "attribute: %q is not the name of an attribute", entries[0].Key)
	case len(entries) > 1:
		p.Fail(entries[1].Node, "attribute: expected one attribute such as {placeholder: Berth}; narrow it with within")
	case resolve(e.Value).Kind == yaml.MappingNode:
		p.Fail(e.Value, "attribute: expected one attribute such as {placeholder: Berth}")
	}
}

// AttributeForm is what names of attributes look like here: those that HTML has
// and those that authors make, without what CSS would have to escape.
var AttributeForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_-]{0,99}$`)

// Key is one key to press: a name from keyNames or a single character.
type Key struct {
	Name string
	Code string // what W3C WebDriver section 17.4.2 "Keyboard actions" calls its raw key
}

var keyNames = map[string]string{
	"Backspace": "\ue003", "Tab": "\ue004", "Enter": "\ue007", "Shift": "\ue008", "Control": "\ue009",
	"Alt": "\ue00a", "Escape": "\ue00c", "Space": " ", "PageUp": "\ue00e", "PageDown": "\ue00f",
	"End": "\ue010", "Home": "\ue011", "ArrowLeft": "\ue012", "ArrowUp": "\ue013", "ArrowRight": "\ue014",
	"ArrowDown": "\ue015", "Insert": "\ue016", "Delete": "\ue017", "Meta": "\ue03d",
	"F1": "\ue031", "F2": "\ue032", "F3": "\ue033", "F4": "\ue034", "F5": "\ue035", "F6": "\ue036",
	"F7": "\ue037", "F8": "\ue038", "F9": "\ue039", "F10": "\ue03a", "F11": "\ue03b", "F12": "\ue03c",
}

// Keys splits a chord such as Control+a into its keys, held from left to right.
func Keys(chord string) ([]Key, error) {
	if chord == "" {
		return nil, errors.New("expected a key such as Enter or Control+a")
	}
	var keys []Key
	for _, part := range strings.Split(strings.ReplaceAll(chord, "++", "+\x00"), "+") {
		part = strings.ReplaceAll(part, "\x00", "+")
		code, named := keyNames[part]
		switch {
		case named:
			keys = append(keys, Key{part, code})
		case len([]rune(part)) == 1:
			keys = append(keys, Key{part, part})
		default:
			names := make([]string, 0, len(keyNames))
			for name := range keyNames {
				names = append(names, name)
			}
			slices.Sort(names)
			hint := ""
			if near := source.Nearest(part, names); near != "" {
				hint = fmt.Sprintf(" (did you mean %q?)", near)
			}
			return nil, fmt.Errorf("unknown key %q%s; expected one character or one of %s", part, hint, strings.Join(names, ", "))
		}
	}
	return keys, nil
}
