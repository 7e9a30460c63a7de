package term

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTextFromElsewhereIsTame(t *testing.T) {
	const wild = "Tide\x1b]0;owned\a\x1b[2J\u009b31m\r\u202e\x7f\n\tok é"
	const calm = "Tide�]0;owned��[2J�31m���\n\tok é"
	assert.Equal(t, calm, Tame(wild))
	type row struct {
		Name  string
		Tags  []string
		Facts map[string][]string
		Any   any
		Raw   []byte
		next  string
		Ptr   *row
	}
	v := []row{{Name: wild, Tags: []string{wild}, Facts: map[string][]string{wild: {wild}}, Any: map[string]any{"a": []any{wild, 1}},
		Raw: []byte(wild), next: wild, Ptr: &row{Name: wild}}}
	TameAll(&v)
	assert.Equal(t, row{Name: calm, Tags: []string{calm}, Facts: map[string][]string{calm: {calm}}, Any: map[string]any{"a": []any{calm, 1}},
		Raw: []byte(wild), next: wild, Ptr: &row{Name: calm}}, v[0])
	TameAll(nil)
}

func TestJSONForATerminalIsTheSameJSON(t *testing.T) {
	assert.Equal(t, "{\"a\": \"\\u009b31m\\u202e é\"}\n", Escape("{\"a\": \"\u009b31m\u202e é\"}\n"))
}
