// Package condition compiles the expressions that strangers write, in scripts and
// in the rules of a matrix. They compare and combine values; they have no loops, no
// variables of their own and nothing that grows, so that one costs no more than it
// is long.
package condition

import (
	"fmt"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm"
)

const (
	maxLength = 2000 // characters of an expression
	maxNodes  = 500  // of its tree
	maxRange  = 1000 // numbers between the ends of a range
)

// functions are those that an expression may use: each takes time in proportion to
// what it is given, and gives no more than that.
var functions = []string{"len", "lower", "upper", "trim", "trimPrefix", "trimSuffix", "indexOf", "lastIndexOf", "hasPrefix", "hasSuffix",
	"int", "float", "string", "abs", "min", "max", "round", "floor", "ceil"}

// Compile compiles an expression over the variables of env.
func Compile(source string, env any, more ...expr.Option) (*vm.Program, error) {
	if len(source) > maxLength {
		return nil, fmt.Errorf("an expression has at most %d characters, this one has %d", maxLength, len(source))
	}
	var found bounds // looks before anything is worked out
	options := []expr.Option{expr.Env(env), expr.MaxNodes(maxNodes), expr.DisableAllBuiltins(), expr.Patch(&found)}
	for _, f := range functions {
		options = append(options, expr.EnableBuiltin(f))
	}
	program, err := expr.Compile(source, append(options, more...)...)
	if err != nil {
		return nil, err
	}
	return program, found.err
}

// bounds finds what makes an expression cost more than it is long.
type bounds struct{ err error }

// Visit looks at one node.
func (b *bounds) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.VariableDeclaratorNode:
		b.err = fmt.Errorf("an expression has no variables of its own (let %s)", n.Name)
	case *ast.PredicateNode, *ast.SequenceNode:
		b.err = fmt.Errorf("an expression has no loops and no sequences")
	case *ast.BinaryNode:
		if n.Operator != ".." {
			return
		}
		from, whole := n.Left.(*ast.IntegerNode)
		to, both := n.Right.(*ast.IntegerNode)
		if !whole || !both || to.Value-from.Value > maxRange {
			b.err = fmt.Errorf("a range has whole numbers at its ends, at most %d apart", maxRange)
		}
	}
}
