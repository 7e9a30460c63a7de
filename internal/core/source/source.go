// Package source says where in a file something stands, and what is wrong there.
package source

import (
	"cmp"
	"fmt"
	"strings"
)

// Position is a place in a file. Line and Column count from 1.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Position) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Problem is one thing wrong with a file.
type Problem struct {
	Position
	Message string `json:"message"`
}

func (p Problem) Error() string { return p.Position.String() + ": " + p.Message }

// Problems is everything wrong with one or more files, in order of position.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// Compare orders places by file, line and column.
func (p Position) Compare(q Position) int {
	return cmp.Or(cmp.Compare(p.File, q.File), cmp.Compare(p.Line, q.Line), cmp.Compare(p.Column, q.Column))
}
