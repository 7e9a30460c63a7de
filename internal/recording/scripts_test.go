package recording

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLongScriptsAreKeptOnce(t *testing.T) {
	s := Scripts{}
	body := func(script, args string) json.RawMessage {
		raw, err := json.Marshal(map[string]any{"script": script, "args": json.RawMessage(args)})
		require.NoError(t, err)
		return raw
	}
	said := func(raw json.RawMessage) (script, args string) {
		var a struct {
			Script string          `json:"script"`
			Args   json.RawMessage `json:"args"`
		}
		require.NoError(t, json.Unmarshal(raw, &a))
		return a.Script, string(a.Args)
	}
	long := strings.Repeat("look(); ", 4000)
	script, args := said(s.Fold(body(long, `[{"find":"berth"}]`), 3))
	assert.True(t, strings.HasPrefix(script, "look(); look(); "))
	assert.Contains(t, script, "… and 23808 bytes more")
	assert.Equal(t, `[{"find":"berth"}]`, args, "what it is given stays")
	script, args = said(s.Fold(body(long, `["again"]`), 7))
	assert.Equal(t, "// the script of command 3", script)
	assert.Equal(t, `["again"]`, args)
	script, _ = said(s.Fold(body(strings.Repeat("東", 3000), `[]`), 8))
	assert.Contains(t, script, "… and 810 bytes more", "it is cut between characters")

	short := body("return 1", "[]")
	assert.Equal(t, short, s.Fold(short, 9))
	other := json.RawMessage(`{"text":"` + long + `"}`)
	assert.Equal(t, other, s.Fold(other, 10))
	assert.Equal(t, json.RawMessage(long), s.Fold(json.RawMessage(long), 11))
}
