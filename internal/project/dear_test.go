package project

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestGlobsThatCostTooMuch(t *testing.T) {
	for glob, says := range map[string]string{
		"tests/**/*.pane.yaml": "", "{a,b,c}/{d,e}/*.{x,y}": "", "**/**/**/x": "", "*": "",
		strings.Repeat("{a,b}", 7):            "more than 64 choices",
		"{a,{b,{c,{d,e}}}}":                   "within braces",
		strings.Repeat("**/", 20) + "x":       "more than 64 choices",
		"{" + strings.Repeat("a,", 90) + "b}": "more than 64 choices",
		strings.Repeat("a", 500):              "at most 400 characters",
	} {
		if got := dear(glob); says == "" {
			assert.Empty(t, got, glob)
		} else {
			assert.Contains(t, got, says, glob)
		}
	}
}
