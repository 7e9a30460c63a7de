package recording

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsAreMaskedInEveryForm(t *testing.T) {
	const secret = `p"ss & wörd/9`
	m := NewMask(secret, "abc") // the second is too short to be found
	quoted, _ := json.Marshal(secret)
	for _, form := range []string{secret, string(quoted), url.QueryEscape(secret), url.PathEscape(secret),
		base64.StdEncoding.EncodeToString([]byte(secret)), "p&#34;ss &amp; wörd/9"} {
		assert.NotContains(t, m.Text("before "+form+" after"), form)
		assert.Contains(t, m.Text("before "+form+" after"), Masked)
	}
	assert.Equal(t, "abc", m.Text("abc"))
	var none *Mask
	assert.Equal(t, "x", none.Text("x"))
	assert.Nil(t, NewMask("abc"))
}

func TestTypedSecretsAreMasked(t *testing.T) {
	m := NewMask("tidewater", "4711")
	for in, out := range map[string]string{
		`{"text":"my tidewater","value":["m","y"," ","t","i","d","e","w","a","t","e","r"]}`: `{"text":"my •••","value":["•••"]}`,
		`{"actions":[{"type":"key","id":"k",
"actions":[{"type":"keyDown","value":"4"},{"type":"keyUp","value":"4"},{"type":"keyDown",
"value":"7"},{"type":"keyDown","value":"1"},
{"type":"keyDown","value":"1"}]}]}`: `{"actions":[{"actions":["•••"],"id":"k","type":"key"}]}`,
		`{"n":4711,"tidewater":true}`:             `{"n":"•••","•••":true}`,
		`{"value":"harbour","n":1.50}`:            `{"n":1.50,"value":"harbour"}`,
		`["t","tidewater`:                         `"•••"`,
		`{"using":"css","selector":"#tidewater"}`: `{"selector":"#•••","using":"css"}`,
	} {
		assert.Equal(t, out, string(m.JSON(json.RawMessage(in))))
	}
}

func FuzzMask(f *testing.F) {
	f.Add(`{"a":["t","i"],"value":"tidewater"}`, "tidewater")
	f.Add(`"\u0074idewater"`, "tidewater")
	f.Fuzz(func(t *testing.T, doc, secret string) {
		m := NewMask(secret)
		if m == nil || strings.Contains(secret, "•") || strings.ContainsRune(secret, utf8.RuneError) {
			return
		}
		out := m.JSON(json.RawMessage(doc))
		if !json.Valid([]byte(doc)) {
			return
		}
		var v any
		require.NoError(t, json.Unmarshal(out, &v), "%q became %q", doc, out)
		var look func(v any)
		look = func(v any) {
			switch v := v.(type) {
			case string:
				require.NotContains(t, v, secret, "%q became %q", doc, out)
			case []any:
				for _, x := range v {
					look(x)
				}
			case map[string]any:
				for k, x := range v {
					look(k)
					look(x)
				}
			}
		}
		look(v)
	})
}

func TestLinesSurviveBeingCutOff(t *testing.T) {
	path := filepath.Join(t.TempDir(), "c")
	l, err := CreateLines(path)
	require.NoError(t, err)
	for i := range 3 {
		require.NoError(t, l.Add(Command{Number: i + 1, Name: "Get Title"}))
	}
	lost, err := l.Close()
	require.NoError(t, err)
	assert.Zero(t, lost)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	for cut, want := range map[int]int{0: 3, 5: 2} {
		got, err := Read[Command](bytes.NewReader(raw[:len(raw)-cut]))
		require.NoError(t, err)
		assert.Len(t, got, want)
	}
	_, err = Read[Command](strings.NewReader("{}\n{\n{}\n"))
	assert.ErrorContains(t, err, "line 2")
	assert.Equal(t, json.RawMessage(`"(9 bytes, not kept)"`), Cut(json.RawMessage(`"1234567"`), 8))
}
