package script

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/core/source"

	"go.yaml.in/yaml/v3"
)

// Block is steps that scripts share.
type Block struct {
	source.Position
	Name  string
	About string // plain words for people; "" when the author gave none
	Takes []Parameter
	steps []Step // with calls of other blocks as they are written
}

// Parameter is what a block is given.
type Parameter struct {
	Name      string
	Otherwise *Text // nil: it must be given
}

// Call is a use of a block.
type Call struct {
	source.Position
	Block string
	About string           // plain words for people; "" when neither caller nor block has any
	If    *Expr            // nil means always
	With  map[string]*Text // by parameter, all of them
	In    *Call            // the use of the block that it stands in; nil in a script
}

// path names the blocks that a step stands in, the outermost first.
func (c *Call) path() string {
	if c == nil {
		return ""
	}
	name := c.About
	if name == "" {
		name = c.Block
	}
	return c.In.path() + name + " › "
}

// MaxSteps bounds the steps of a script, with those of its blocks.
const MaxSteps = 2000

// Library is the blocks that scripts may use. The nil Library has none.
type Library struct{ blocks map[string]*Block }

// Names lists the blocks, sorted.
func (l *Library) Names() []string {
	if l == nil {
		return nil
	}
	return slices.Sorted(maps.Keys(l.blocks))
}

// File is the file that a block is written in; "" for one that there is not.
func (l *Library) File(block string) string {
	if l == nil || l.blocks[block] == nil {
		return ""
	}
	return l.blocks[block].File
}

// ParseBlocks reads a file of blocks. The error is Problems.
func ParseBlocks(file string, src []byte) ([]*Block, error) {
	root, problem := Document(file, src)
	if problem != nil {
		return nil, source.Problems{*problem}
	}
	p := &parser{Reader: Reader{File: file}}
	var out []*Block
	for _, e := range p.Mapping(root, "file of blocks") {
		if e.Key != "blocks" {
			p.Unknown(e, "file of blocks", "blocks")
			continue
		}
		for _, b := range p.Mapping(e.Value, "blocks") {
			out = append(out, p.block(b))
		}
	}
	if len(p.Problems) == 0 && len(out) == 0 {
		p.Fail(root, "file of blocks: expected blocks: with a name and steps for each")
	}
	if len(p.Problems) > 0 {
		return nil, p.Problems
	}
	return out, nil
}

func (p *parser) block(e Entry) *Block {
	b := &Block{Position: p.At(e.Node), Name: strings.TrimSpace(e.Key)}
	if b.Name == "" || len(b.Name) > 80 || strings.ContainsAny(b.Name, "\n\r\t") {
		p.Fail(e.Node, "block: expected a name of 1 to 80 characters, found %.80q", e.Key)
	}
	what := "block " + b.Name
	before := len(p.Problems)
	for _, f := range p.Mapping(e.Value, what) {
		switch f.Key {
		case "about":
			b.About = p.String(f.Value, "about")
		case "takes":
			b.Takes = p.takes(f.Value)
		case "steps":
			b.steps = p.steps(f.Value)
		default:
			p.Unknown(f, what, "about", "takes", "steps")
		}
	}
	if len(p.Problems) > before {
		return b
	}
	if len(b.steps) == 0 {
		p.Fail(e.Node, "%s: expected at least one step", what)
	}
	for _, s := range b.steps {
		for _, name := range s.Uses("given") {
			if !slices.ContainsFunc(b.Takes, func(t Parameter) bool { return t.Name == name }) {
				p.Problems = append(p.Problems, source.Problem{Position: s.Position,
					Message: fmt.Sprintf("%s: given.%s is not among what it takes%s", what, name, listed(b.Takes))})
			}
		}
	}
	return b
}

func listed(takes []Parameter) string {
	if len(takes) == 0 {
		return ", which is nothing"
	}
	names := make([]string, len(takes))
	for i, t := range takes {
		names[i] = t.Name
	}
	return ": " + strings.Join(names, ", ")
}

// takes reads a list of names, or a mapping of names to what they are when they are not
// given.
func (p *parser) takes(n *yaml.Node) (out []Parameter) {
	add := func(at *yaml.Node, name string, otherwise *Text) {
		switch {
		case !variableForm.MatchString(name):
			p.Fail(at, "takes: %q is not a name: letters, digits and '_', not starting with a digit", name)
		case slices.ContainsFunc(out, func(t Parameter) bool { return t.Name == name }):
			p.Fail(at, "takes: %s is there twice", name)
		}
		out = append(out, Parameter{name, otherwise})
	}
	if resolve(n).Kind != yaml.MappingNode {
		for _, item := range p.List(n, "takes") {
			add(item, p.String(item, "takes"), nil)
		}
		return out
	}
	for _, e := range p.Mapping(n, "takes") {
		if resolve(e.Value).Tag == "!!null" {
			add(e.Node, e.Key, nil)
			continue
		}
		add(e.Node, e.Key, p.text(e.Value, e.Key))
	}
	return out
}

// NewLibrary joins blocks. The error is Problems: a name that is there twice, a call of a
// block that there is not, with too little or too much, or of itself.
func NewLibrary(blocks []*Block) (*Library, error) {
	l := &Library{map[string]*Block{}}
	var problems source.Problems
	for _, b := range blocks {
		if first := l.blocks[b.Name]; first != nil {
			problems = append(problems, source.Problem{Position: b.Position,
				Message: fmt.Sprintf("block %s is also in %s: names of blocks are unique within a project", b.Name, first.Position)})
			continue
		}
		l.blocks[b.Name] = b
	}
	for _, b := range blocks {
		x := expansion{library: l, stack: []string{b.Name}}
		x.steps(b.steps, nil)
		problems = append(problems, x.problems...)
	}
	if len(problems) > 0 {
		slices.SortStableFunc(problems, func(a, b source.Problem) int { return a.Compare(b.Position) })
		return nil, slices.CompactFunc(problems, func(a, b source.Problem) bool { return a == b })
	}
	return l, nil
}

// expansion puts the steps of blocks in the place of their calls.
type expansion struct {
	library  *Library
	stack    []string // blocks, the outermost first
	out      []Step
	problems source.Problems
}

func (x *expansion) fail(at source.Position, format string, args ...any) {
	x.problems = append(x.problems, source.Problem{Position: at, Message: fmt.Sprintf(format, args...)})
}

func (x *expansion) steps(steps []Step, in *Call) {
	for _, s := range steps {
		if len(x.out) >= MaxSteps {
			if len(x.problems) == 0 {
				x.fail(s.Position, "with the steps of its blocks there are more than %d steps here", MaxSteps)
			}
			return
		}
		if s.Action != Do {
			s.In = in
			x.out = append(x.out, s)
			continue
		}
		name := s.Call.Block
		var b *Block
		if x.library != nil {
			b = x.library.blocks[name]
		}
		if b == nil {
			hint := ""
			if near := source.Nearest(name, x.library.Names()); near != "" {
				hint = fmt.Sprintf(" (did you mean %q?)", near)
			}
			x.fail(s.Position, "do: there is no block %q%s; pane.yaml says under blocks which files have them", name, hint)
			continue
		}
		if slices.Contains(x.stack, name) {
			x.fail(s.Position, "do: block %s would do itself: %s", name, strings.Join(append(x.stack, name), " › "))
			continue
		}
		call := *s.Call
		call.If, call.In, call.With = s.If, in, x.given(s, b)
		if call.About = s.About; call.About == "" {
			call.About = b.About
		}
		x.stack = append(x.stack, name)
		x.steps(b.steps, &call)
		x.stack = x.stack[:len(x.stack)-1]
	}
}

// given is what a call gives a block, with what the block has otherwise.
func (x *expansion) given(s Step, b *Block) map[string]*Text {
	out := map[string]*Text{}
	var names, lacking []string
	for _, t := range b.Takes {
		names = append(names, t.Name)
		if out[t.Name] = t.Otherwise; s.Call.With[t.Name] != nil {
			out[t.Name] = s.Call.With[t.Name]
		} else if t.Otherwise == nil {
			lacking = append(lacking, t.Name)
		}
	}
	if len(lacking) > 0 {
		x.fail(s.Position, "do: block %s needs %s: add with: {%s: …}", b.Name, strings.Join(lacking, " and "), lacking[0])
	}
	for _, name := range slices.Sorted(maps.Keys(s.Call.With)) {
		if !slices.Contains(names, name) {
			hint := ""
			if near := source.Nearest(name, names); near != "" {
				hint = fmt.Sprintf(" (did you mean %q?)", near)
			}
			x.fail(s.Position, "do: block %s takes no %q%s; it takes%s", b.Name, name, hint, strings.TrimPrefix(listed(b.Takes), ":"))
		}
	}
	return out
}

// Blocks names the blocks that a script does, those within others included, sorted.
func (s *Script) Blocks() []string {
	names := map[string]bool{}
	for _, st := range s.Steps {
		for c := st.In; c != nil; c = c.In {
			names[c.Block] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// Uses lists the names that a text's expressions take from a group.
func (t *Text) Uses(group string) (names []string) {
	for _, p := range t.parts {
		if p.expr != nil {
			names = append(names, p.expr.uses(group)...)
		}
	}
	return names
}

// Uses lists the names that a step's expressions take from a group: vars, kept, given,
// row or axes.
func (s Step) Uses(group string) (names []string) {
	text := func(t *Text) {
		if t != nil {
			names = append(names, t.Uses(group)...)
		}
	}
	locator := func(l *Locator) {
		if l != nil {
			text(l.Value)
			text(l.Name)
		}
	}
	if s.If != nil {
		names = s.If.uses(group)
	}
	text(s.Text)
	locator(s.Target)
	locator(s.Within)
	for _, f := range s.Frames {
		locator(f)
	}
	if s.Expect != nil {
		text(s.Expect.Want)
		locator(s.Expect.Target)
	}
	if s.Call != nil {
		for _, t := range s.Call.With {
			text(t)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}
