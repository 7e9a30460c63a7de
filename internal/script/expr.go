package script

import (
	"fmt"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm"

	"parallelpane/internal/core/condition"
	"parallelpane/internal/core/device"
)

// Scope is what expressions can see.
type Scope struct {
	Browser string            `expr:"browser"` // chromium, firefox, webkitgtk …
	OS      string            `expr:"os"`
	Device  DeviceScope       `expr:"device"`
	Axes    map[string]string `expr:"axes"`  // the combination's values, one's own axes included
	Vars    map[string]string `expr:"vars"`  // of the environment
	Kept    map[string]string `expr:"kept"`  // values read by keep
	Given   map[string]string `expr:"given"` // to the block that the step stands in
	Row     map[string]string `expr:"row"`   // of the script's data, by column
}

// DeviceScope is the device as expressions see it.
type DeviceScope struct {
	Name      string `expr:"name"`
	Width     int    `expr:"width"`
	Height    int    `expr:"height"`
	Small     bool   `expr:"small"` // narrower than 768 CSS pixels
	Touch     bool   `expr:"touch"`
	Landscape bool   `expr:"landscape"`
}

// DeviceOf is the scope of a profile.
func DeviceOf(p device.Profile) DeviceScope {
	return DeviceScope{p.Name, p.Size.Width, p.Size.Height, p.Small(), p.Touch, p.Orientation() == "landscape"}
}

// Expr is a compiled expression.
type Expr struct {
	Source  string
	program *vm.Program
}

func compile(source string, opts ...expr.Option) (*Expr, error) {
	program, err := condition.Compile(source, Scope{}, opts...)
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return nil, fmt.Errorf("expression %q: %s", source, first)
	}
	return &Expr{Source: source, program: program}, nil
}

// CompileCondition compiles an expression that must be true or false.
func CompileCondition(source string) (*Expr, error) { return compile(source, expr.AsBool()) }

// True evaluates a condition.
func (e *Expr) True(s Scope) (bool, error) {
	v, err := expr.Run(e.program, s)
	if err != nil {
		return false, fmt.Errorf("expression %q: %w", e.Source, err)
	}
	b, ok := v.(bool)
	if !ok {
		return false, fmt.Errorf("expression %q is not true or false", e.Source)
	}
	return b, nil
}

// uses lists the names that an expression takes from a group, as in row.boat or
// row["boat's name"].
func (e *Expr) uses(group string) (names []string) {
	ast.Find(e.program.Node(), func(n ast.Node) bool {
		if m, ok := n.(*ast.MemberNode); ok {
			if of, ok := m.Node.(*ast.IdentifierNode); ok && of.Value == group {
				if name, ok := m.Property.(*ast.StringNode); ok {
					names = append(names, name.Value)
				}
			}
		}
		return false
	})
	return names
}

// Text is a string with ${expressions} in it. "$${" writes a plain "${".
type Text struct {
	Source string
	parts  []textPart
}

type textPart struct {
	plain string
	expr  *Expr
}

// ParseText compiles the expressions of a text.
func ParseText(source string) (*Text, error) {
	t := &Text{Source: source}
	rest := source
	for {
		i := strings.Index(rest, "${")
		if i < 0 {
			t.parts = append(t.parts, textPart{plain: rest})
			return t, nil
		}
		if i > 0 && rest[i-1] == '$' {
			t.parts = append(t.parts, textPart{plain: rest[:i-1] + "${"})
			rest = rest[i+2:]
			continue
		}
		end := strings.IndexByte(rest[i:], '}')
		if end < 0 {
			return nil, fmt.Errorf("%q: ${ without a closing }", source)
		}
		e, err := compile(rest[i+2 : i+end])
		if err != nil {
			return nil, err
		}
		t.parts = append(t.parts, textPart{plain: rest[:i]}, textPart{expr: e})
		rest = rest[i+end+1:]
	}
}

// In evaluates the text in a scope. A variable that is not set is an error,
// because an empty string in its place would go unnoticed.
func (t *Text) In(s Scope) (string, error) {
	var b strings.Builder
	for _, p := range t.parts {
		if p.expr == nil {
			b.WriteString(p.plain)
			continue
		}
		v, err := expr.Run(p.expr.program, s)
		if err != nil {
			return "", fmt.Errorf("expression %q: %w", p.expr.Source, err)
		}
		if name, ok := unset(p.expr.Source, s); ok {
			return "", fmt.Errorf("%s is not set", name)
		}
		fmt.Fprint(&b, v)
	}
	return b.String(), nil
}

// unset recognises a plain vars.x, kept.x or axes.x that names nothing.
func unset(source string, s Scope) (string, bool) {
	group, name, ok := strings.Cut(strings.TrimSpace(source), ".")
	if !ok {
		return "", false
	}
	m, ok := map[string]map[string]string{"vars": s.Vars, "kept": s.Kept, "axes": s.Axes, "given": s.Given, "row": s.Row}[group]
	if !ok || strings.ContainsAny(name, " .()[]+?") {
		return "", false
	}
	_, set := m[name]
	return group + "." + name, !set
}
