package script

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"parallelpane/internal/core/source"
)

// Rewrite puts a locator, as scripts write it in one line, in the place of the one that
// stands at a position of a script or of a file of blocks. Everything else stays as it is,
// comments and blanks too; where that cannot be had it is an error that says why.
func Rewrite(src []byte, at source.Position, locator string) ([]byte, error) {
	root, problem := Document(at.File, src)
	if problem != nil {
		return nil, problem
	}
	fail := func(format string, args ...any) ([]byte, error) {
		return nil, fmt.Errorf("%s: %s", at, fmt.Sprintf(format, args...))
	}
	n := nodeAt(root, at.Line, at.Column)
	if n == nil {
		return fail("nothing stands there")
	}
	x := text{src: src}
	from, ok := x.offset(n.Line, n.Column)
	if !ok {
		return fail("the file is shorter")
	}
	to, err := x.end(n)
	if err != nil {
		return fail("%v", err)
	}
	var out bytes.Buffer
	out.Write(src[:from])
	out.WriteString(locator)
	out.Write(src[to:])
	// What was written must be the same file with another locator, and nothing else.
	now, problem := Document(at.File, out.Bytes())
	if problem != nil {
		return fail("it cannot be written there: %s", problem.Message)
	}
	want, problem := Document(at.File, []byte(locator))
	if problem != nil {
		return fail("%q is no locator: %s", locator, problem.Message)
	}
	if !alike(root, now, n, want) {
		return fail("writing it there would change more than the locator")
	}
	return out.Bytes(), nil
}

// nodeAt finds the outermost node that begins at a place.
func nodeAt(n *yaml.Node, line, column int) *yaml.Node {
	if n.Line == line && n.Column == column {
		return n
	}
	for _, c := range n.Content {
		if found := nodeAt(c, line, column); found != nil {
			return found
		}
	}
	return nil
}

// alike reports whether two documents say the same, but for one node in whose place
// another one stands.
func alike(a, b, but, other *yaml.Node) bool {
	if a == but {
		return alike(other, b, nil, nil)
	}
	if a.Kind != b.Kind || a.ShortTag() != b.ShortTag() || a.Value != b.Value || a.Anchor != b.Anchor || len(a.Content) != len(b.Content) {
		return false
	}
	for i := range a.Content {
		if !alike(a.Content[i], b.Content[i], but, other) {
			return false
		}
	}
	return true
}

// text finds where nodes end in a file.
type text struct{ src []byte }

// offset is where a line's column is; columns count characters.
func (x text) offset(line, column int) (int, bool) {
	at := 0
	for ; line > 1; line-- {
		i := bytes.IndexByte(x.src[at:], '\n')
		if i < 0 {
			return 0, false
		}
		at += i + 1
	}
	for ; column > 1; column-- {
		if at >= len(x.src) || x.src[at] == '\n' {
			return 0, false
		}
		_, n := utf8.DecodeRune(x.src[at:])
		at += n
	}
	return at, true
}

var errShape = errors.New("the locator is written in a way that is not changed by a program: change it by hand")

// end is where a node ends.
func (x text) end(n *yaml.Node) (int, error) {
	at, ok := x.offset(n.Line, n.Column)
	if !ok || n.Kind == yaml.AliasNode || n.Anchor != "" {
		return 0, errShape
	}
	switch {
	case n.Kind == yaml.MappingNode && n.Style&yaml.FlowStyle != 0:
		return x.closing(at)
	case n.Kind == yaml.MappingNode && len(n.Content) > 0:
		for _, c := range n.Content[:len(n.Content)-1] {
			if c.LineComment+c.HeadComment+c.FootComment != "" {
				return 0, errShape // a comment within, which would be lost
			}
		}
		return x.end(n.Content[len(n.Content)-1])
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		return x.quoted(at)
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 && n.Value != "" &&
		strings.HasPrefix(string(x.src[at:]), n.Value):
		return at + len(n.Value), nil
	}
	return 0, errShape
}

// quoted is where a quoted text ends that begins at a place.
func (x text) quoted(at int) (int, error) {
	q := x.src[at]
	for i := at + 1; i < len(x.src); i++ {
		switch {
		case q == '"' && x.src[i] == '\\':
			i++
		case x.src[i] == q && q == '\'' && i+1 < len(x.src) && x.src[i+1] == q:
			i++
		case x.src[i] == q:
			return i + 1, nil
		}
	}
	return 0, errShape
}

// closing is where a mapping in braces ends that begins at a place.
func (x text) closing(at int) (int, error) {
	depth := 0
	for i := at; i < len(x.src); i++ {
		switch c := x.src[i]; c {
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				return i + 1, nil
			}
		case '"', '\'':
			if strings.IndexByte(" \t\n,:{[", x.src[i-1]) < 0 {
				continue // within a plain text
			}
			end, err := x.quoted(i)
			if err != nil {
				return 0, err
			}
			i = end - 1
		case '#':
			if strings.IndexByte(" \t\n", x.src[i-1]) >= 0 {
				return 0, errShape // a comment within, which would be lost
			}
		}
	}
	return 0, errShape
}
