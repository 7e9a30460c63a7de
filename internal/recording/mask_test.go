package recording

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
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
		in := json.NewDecoder(bytes.NewReader(out))
		in.UseNumber() // of any size: the standard sets none
		require.NoError(t, in.Decode(&v), "%q became %q", doc, out)
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

// However a secret was encoded, and whatever it was encoded with, nothing of it is left
// by which somebody could get at it.
func TestSecretsAreMaskedHoweverTheyAreEncoded(t *testing.T) {
	const secret = `p"ss<&>wörd/9'x`
	m := NewMask(secret)
	utf16le, utf16be := inUTF16(secret, binary.LittleEndian), inUTF16(secret, binary.BigEndian)
	var plain bytes.Buffer
	enc := json.NewEncoder(&plain)
	enc.SetEscapeHTML(false)
	require.NoError(t, enc.Encode(secret))
	escaped, err := json.Marshal(secret)
	require.NoError(t, err)
	for name, form := range map[string]string{
		"JSON": plain.String(), "JSON with HTML escapes": string(escaped),
		"JSON in ASCII": strings.NewReplacer("ö", `\u00f6`).Replace(plain.String()),
		"quoted":        strconv.Quote(secret), "quoted in ASCII": strconv.QuoteToASCII(secret),
		"hex": hex.EncodeToString([]byte(secret)), "HEX": strings.ToUpper(hex.EncodeToString([]byte(secret))),
		"UTF-16LE": string(utf16le), "UTF-16BE": string(utf16be), "UTF-16LE in hex": hex.EncodeToString(utf16le),
		"a component of an address": "p%22ss%3C%26%3Ew%C3%B6rd%2F9'x", "in lower case": "p%22ss%3c%26%3ew%c3%b6rd%2f9'x",
		"every byte percent-encoded": "%70%22%73%73%3C%26%3E%77%C3%B6%72%64%2F%39%27%78",
	} {
		got := m.Text("before " + form + " after")
		assert.Contains(t, got, Masked, name)
		assert.NotContains(t, got, "ss", name)
	}
	for _, raw := range []string{secret, string(utf16le), string(utf16be)} {
		for before := range 7 {
			for after := range 4 {
				whole := strings.Repeat("u", before) + raw + strings.Repeat("z", after)
				for _, e := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding} {
					got := m.Text("Basic " + e.EncodeToString([]byte(whole)))
					require.Contains(t, got, Masked, "%d before, %d after", before, after)
					assert.Less(t, len(got), len("Basic ")+len(Masked)+(before+after+4)*4/3+8, "all but the edges is gone")
				}
			}
		}
	}
	assert.Contains(t, m.Text("Authorization: Basic "+base64.StdEncoding.EncodeToString([]byte("harbour:"+secret))), Masked)
}

// A secret that is typed key by key is in no command as a whole, and masked all the
// same, from its first key on.
func TestSecretsTypedInPieces(t *testing.T) {
	m := NewMask("tidewater", "4711")
	key := func(s string) string {
		return `{"actions":[{"type":"key","id":"k","actions":[{"type":"keyDown","value":"` + s + `"},{"type":"keyUp","value":"` + s + `"}]}]}`
	}
	var kept strings.Builder
	typing := m.Typing()
	for _, r := range "my tidewater!" {
		kept.Write(m.JSON(typing.Command(json.RawMessage(key(string(r))))))
	}
	for _, r := range "tidewater" {
		assert.NotContains(t, kept.String(), `"value":"`+string(r)+`"},{"type":"keyUp","value":"`+string(r)+`"`, "%c", r)
	}
	assert.Contains(t, kept.String(), `"value":"!"`)
	typing = m.Typing()
	for _, step := range [][2]string{{"a tide", "a •••"}, {"water 47", "••• •••"}, {"1", "•••"}, {"1x",
		"•••x"}, {"tide", "•••"}, {"pool", "pool"}} {
		assert.Equal(t, step[1], typing.Text(step[0]), step[0])
	}
	assert.JSONEq(t, `{"text":"•••"}`, string(typing.Command(json.RawMessage(`{"text":"ti","value":["t","i"]}`))))
	assert.JSONEq(t, `{"text":"•••"}`, string(typing.Command(json.RawMessage(`{"value":["d","e"]}`))))
	assert.JSONEq(t, `{"url":"http://desk/"}`, string(typing.Command(json.RawMessage(`{"url":"http://desk/"}`))))
	var none *Mask
	assert.JSONEq(t, `{"text":"ti"}`, string(none.Typing().Command(json.RawMessage(`{"text":"ti"}`))))
}

// Whatever is typed, in whatever pieces, no secret is in what is kept of it.
func FuzzTyping(f *testing.F) {
	f.Add("my tidewater", "tidewater", 3)
	f.Add("4747114711", "4711", 1)
	f.Fuzz(func(t *testing.T, text, secret string, every int) {
		m := NewMask(secret)
		if m == nil || strings.Contains(secret, "•") || !utf8.ValidString(secret) || !utf8.ValidString(text) || every < 1 {
			return
		}
		typing, runes := m.Typing(), []rune(text)
		var kept strings.Builder
		for i := 0; i < len(runes); i += every {
			kept.WriteString(typing.Text(string(runes[i:min(len(runes), i+every)])))
		}
		assert.NotContains(t, kept.String(), secret)
	})
}
