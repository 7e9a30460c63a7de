package condition

import (
	"strings"
	"testing"

	"github.com/expr-lang/expr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var env = map[string]any{"browser": "firefox", "width": 390, "tags": []string{"a"}, "text": ""}

func TestWhatConditionsMaySay(t *testing.T) {
	for source, want := range map[string]any{
		`browser == "firefox" && width < 400`: true, `browser in ["firefox", "gannet"]`: true, `width in 300..400`: true,
		`browser startsWith "fire" and not (width > 500)`: true, `browser matches "^f.*x$"`: true, `len(browser) == 7`: true,
		`width > 300 ? "small" : "wide"`: "small", `lower("FOX") + "es"`: "foxes", `"a" in tags`: true,
	} {
		program, err := Compile(source, env)
		require.NoError(t, err, source)
		got, err := expr.Run(program, env)
		require.NoError(t, err)
		assert.Equal(t, want, got, source)
	}
}

// Each of these held a core for minutes, or ate the machine's memory.
func TestWhatWouldNeverEnd(t *testing.T) {
	doubled := `let a0 = "xxxxxxxx"; `
	for i := range 40 {
		doubled += strings.NewReplacer("N", string(rune('a'+i%26))+strings.Repeat("z", i/26), "M",
			map[bool]string{true: "a0", false: string(rune('a'+(i-1+26)%26)) + strings.Repeat("z", max(0, i-1)/26)}[i == 0]).
			Replace(`let N = M + M; `)
	}
	for source, says := range map[string]string{
		`all(1..990, all(1..990, all(1..990, all(1..990, # > 0))))`: "no loops",
		`len(map(1..900, map(1..900, 1))) > 0`:                      "no loops",
		`reduce(1..900, #acc + #) > 0`:                              "no loops",
		`repeat("x", 1000000000) == ""`:                             "repeat",
		doubled + `text`:                                            "let",
		`len(1..1000000000) > 5`:                                    "at most 1000 apart",
		`width in 1..width`:                                         "whole numbers at its ends",
		`let x = 1; x == 1`:                                         "let x",
		strings.Repeat("(", 3000):                                   "at most 2000 characters",
		strings.Repeat("!", 1200) + "true":                          "nodes",
	} {
		_, err := Compile(source, env)
		require.Error(t, err, source)
		assert.ErrorContains(t, err, says)
	}
}

func FuzzCompile(f *testing.F) {
	f.Add(`browser == "firefox"`)
	f.Add(`all(1..9, # > 1)`)
	f.Fuzz(func(_ *testing.T, source string) {
		if p, err := Compile(source, env); err == nil {
			_, _ = expr.Run(p, env)
		}
	})
}
