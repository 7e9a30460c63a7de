package combo

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"

	"parallelpane/internal/core/condition"
)

// A rule forbids some of the values of a few axes together. Its table has a
// place for every tuple of their values, the last axis varying fastest.
type rule struct {
	name    string
	axes    []int
	allowed []bool
	why     func(row []int) string // what is wrong with a row, free axes and all; nil when the name says it
}

func (r *rule) reason(row []int) string {
	if r.why == nil {
		return r.name
	}
	return r.why(row)
}

// maxRuleTable bounds the tuples that one rule may speak of.
const maxRuleTable = 1_000_000

// problem is a matrix in numbers: axes are indexes, values are indexes.
type problem struct {
	axes     []Axis
	sizes    []int
	rules    []rule
	touching [][]int // by axis, the rules that speak of it
	left     *int    // steps of searching that are left
}

// maxSearch bounds the values that are tried for one matrix, however many rows have
// to be completed: a few seconds of work.
const maxSearch = 50_000_000

// ErrTooHard means that the rules of a matrix took more searching than one matrix
// may have.
var ErrTooHard = errors.New("its rules are too hard together: no more is tried after 50 million values; " +
	"let each rule speak of fewer axes, or name the combinations with add")

// spent reports that searching was given up, so that what was not found may be
// there all the same.
func (p *problem) spent() bool { return *p.left <= 0 }

func newProblem(m Matrix, lab Lab) (*problem, error) {
	left := maxSearch
	p := &problem{axes: m.Axes, touching: make([][]int, len(m.Axes)), left: &left}
	for _, a := range m.Axes {
		p.sizes = append(p.sizes, len(a.Values))
	}
	for _, source := range m.Only {
		if err := p.only(source); err != nil {
			return nil, fmt.Errorf("matrix %q: only %q: %w", m.Name, source, err)
		}
	}
	for _, d := range m.Drop {
		if err := p.drop(d); err != nil {
			return nil, fmt.Errorf("matrix %q: drop %s: %w", m.Name, d, err)
		}
	}
	if err := p.addLab(lab, m.Cover.Strength == 0); err != nil {
		return nil, fmt.Errorf("matrix %q: what the lab can do: %w", m.Name, err)
	}
	for i, r := range p.rules {
		for _, a := range r.axes {
			p.touching[a] = append(p.touching[a], i)
		}
	}
	return p, nil
}

func (p *problem) axis(name string) (int, error) {
	if i := slices.IndexFunc(p.axes, func(a Axis) bool { return a.Name == name }); i >= 0 {
		return i, nil
	}
	names := make([]string, len(p.axes))
	for i, a := range p.axes {
		names[i] = a.Name
	}
	return 0, fmt.Errorf("there is no axis %q; the axes are %s", name, strings.Join(names, ", "))
}

// identifiers gathers the axes an expression reads, as NAME or, for a name that
// is no identifier, as $env["NAME"].
type identifiers struct{ names []string }

func (v *identifiers) Visit(n *ast.Node) {
	name := ""
	switch n := (*n).(type) {
	case *ast.IdentifierNode:
		name = n.Value
	case *ast.MemberNode:
		whole, isEnv := n.Node.(*ast.IdentifierNode)
		if key, ok := n.Property.(*ast.StringNode); ok && isEnv && whole.Value == "$env" {
			name = key.Value
		}
	}
	if name != "" && name != "$env" && !slices.Contains(v.names, name) {
		v.names = append(v.names, name)
	}
}

// environment is what expressions see of the axes. With numbers, an axis whose
// values are all whole numbers is one in expressions, so that they can be
// compared; otherwise all values are strings.
func (p *problem) environment(numbers bool) (env map[string]any, value func(axis, v int) any) {
	asNumber := make([]bool, len(p.axes))
	env = map[string]any{}
	for i, a := range p.axes {
		asNumber[i] = numbers && !slices.ContainsFunc(a.Values, func(s string) bool { _, err := strconv.Atoi(s); return err != nil })
		env[a.Name] = ""
		if asNumber[i] {
			env[a.Name] = 0
		}
	}
	return env, func(axis, v int) any {
		s := p.axes[axis].Values[v]
		if asNumber[axis] {
			n, _ := strconv.Atoi(s) // all of the axis's values are numbers
			return n
		}
		return s
	}
}

// only adds a rule from an expression over axis names that must hold.
func (p *problem) only(source string) error {
	env, value := p.environment(true)
	program, err := condition.Compile(source, env, expr.AsBool())
	if err != nil { // perhaps it compares a number with a text
		first, _, _ := strings.Cut(err.Error(), "\n")
		env, value = p.environment(false)
		if program, err = condition.Compile(source, env, expr.AsBool()); err != nil {
			return errors.New(first)
		}
	}
	var ids identifiers
	root := program.Node()
	ast.Walk(&root, &ids)
	var axes []int
	for _, name := range ids.names {
		i, err := p.axis(name)
		if err != nil {
			return err
		}
		axes = append(axes, i)
	}
	slices.Sort(axes)
	var failed error
	err = p.addRule("only "+source, axes, func(values []int) bool {
		for i, a := range axes {
			env[p.axes[a].Name] = value(a, values[i])
		}
		ok, err := expr.Run(program, env)
		if err != nil {
			failed = err
			return false
		}
		return ok.(bool)
	})
	return errors.Join(err, failed)
}

// drop adds a rule from values that must not come together.
func (p *problem) drop(d Drop) error {
	var axes []int
	wanted := map[int][]string{}
	for name, values := range d {
		i, err := p.axis(name)
		if err != nil {
			return err
		}
		for _, v := range values {
			if !slices.Contains(p.axes[i].Values, v) {
				return fmt.Errorf("axis %q has no value %q; it has %s", name, v, strings.Join(p.axes[i].Values, ", "))
			}
		}
		axes = append(axes, i)
		wanted[i] = values
	}
	slices.Sort(axes)
	return p.addRule("drop "+d.String(), axes, func(values []int) bool {
		for i, a := range axes {
			if !slices.Contains(wanted[a], p.axes[a].Values[values[i]]) {
				return true
			}
		}
		return false
	})
}

func (p *problem) addRule(name string, axes []int, holds func([]int) bool) error {
	size := 1
	for _, a := range axes {
		if size *= p.sizes[a]; size > maxRuleTable {
			return fmt.Errorf("it speaks of more than %d combinations of values: split it", maxRuleTable)
		}
	}
	r := rule{name: name, axes: axes, allowed: make([]bool, size)}
	values := make([]int, len(axes))
	for i := range r.allowed {
		rest := i
		for k := len(axes) - 1; k >= 0; k-- {
			values[k] = rest % p.sizes[axes[k]]
			rest /= p.sizes[axes[k]]
		}
		r.allowed[i] = holds(values)
	}
	p.rules = append(p.rules, r)
	return nil
}

const free = -1 // an axis without a value yet

// broken returns the first rule, of those that speak of an axis, that a row
// breaks with the values it has; a rule with a free axis is not broken yet.
// Axis -1 asks every rule.
func (p *problem) broken(row []int, axis int) *rule {
	check := func(r *rule) bool {
		i := 0
		for _, a := range r.axes {
			if row[a] == free {
				return false
			}
			i = i*p.sizes[a] + row[a]
		}
		return !r.allowed[i]
	}
	if axis < 0 {
		for i := range p.rules {
			if check(&p.rules[i]) {
				return &p.rules[i]
			}
		}
		return nil
	}
	for _, i := range p.touching[axis] {
		if check(&p.rules[i]) {
			return &p.rules[i]
		}
	}
	return nil
}

// complete gives values to the free axes that rules speak of, so that every
// rule holds, and reports whether it can. It searches depth first; in the worst
// case that is exponential in the number of such axes, up to maxSearch.
func (p *problem) complete(row []int) bool {
	if p.broken(row, -1) != nil {
		return false
	}
	return p.completeFrom(row, 0)
}

func (p *problem) completeFrom(row []int, axis int) bool {
	for axis < len(row) && (row[axis] != free || len(p.touching[axis]) == 0) {
		axis++
	}
	if axis == len(row) {
		return true
	}
	for v := range p.sizes[axis] {
		if *p.left--; p.spent() {
			break
		}
		row[axis] = v
		if p.broken(row, axis) == nil && p.completeFrom(row, axis+1) {
			return true
		}
	}
	row[axis] = free
	return false
}

// possible reports whether a row can be completed, and leaves it as it is.
func (p *problem) possible(row []int) bool {
	if len(p.rules) == 0 {
		return true
	}
	return p.complete(slices.Clone(row))
}

// culprit names the rule that makes a row impossible: the one it breaks, or the
// first that, together with those before it, leaves no way to complete it.
func (p *problem) culprit(row []int) string {
	if r := p.broken(row, -1); r != nil {
		return r.reason(row)
	}
	for n := 1; n <= len(p.rules); n++ {
		some := &problem{axes: p.axes, sizes: p.sizes, rules: p.rules[:n], touching: make([][]int, len(p.axes)), left: p.left}
		for i, r := range some.rules {
			for _, a := range r.axes {
				some.touching[a] = append(some.touching[a], i)
			}
		}
		if !some.possible(row) && !p.spent() {
			return p.rules[n-1].reason(row)
		}
	}
	return "its rules together"
}
