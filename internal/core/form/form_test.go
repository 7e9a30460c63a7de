package form

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const desk = `{"type": "object", "required": ["title", "severity"], "additionalProperties": false, "properties": {
	"title": {"type": "string", "maxLength": 12},
	"severity": {"enum": ["low", "high"]},
	"What_failed": {"type": "string", "x-fill": "message"},
	"Combinations": {"type": "array", "items": {"type": "string"}, "maxItems": 2},
	"tests": {"type": "string"},
	"run": {"type": "integer"},
	"first-seen": {"type": "string", "format": "date-time"},
	"step": {"type": "boolean"},
	"pictures": {"type": "array", "items": {"type": "string", "contentEncoding": "base64", "contentMediaType": "image/png"}}}}`

func TestWhatIsKnownGoesIntoTheFieldsThatAreNamedAfterIt(t *testing.T) {
	f, err := Parse([]byte(desk))
	require.NoError(t, err)
	values := f.Fill(map[string]any{"title": "A berth cannot be held", "message": "no button", "combinations": []string{"a", "b", "c"},
		"tests": []string{"one", "two"}, "run": 7, "first_seen": "2026-11-27T10:00:00Z", "step": "line 3", "elsewhere": "x"})
	assert.Equal(t, map[string]any{"title": "A berth can…", "What_failed": "no button", "Combinations": []any{"a", "b"},
		"tests": "one\ntwo", "run": 7,
		"first-seen": "2026-11-27T10:00:00Z"}, values, "what does not fit is left out")
	assert.Equal(t, "pictures", f.Pictures())
	problems := f.Check(values)
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Message, "severity")
	values["severity"], values["first-seen"], values["more"] = "none", "today", 1
	fields := map[string]bool{}
	for _, p := range f.Check(values) {
		fields[p.Field] = true
	}
	assert.Equal(t, map[string]bool{"/severity": true, "/first-seen": true, "": true}, fields)
	usual, err := Parse([]byte(Usual))
	require.NoError(t, err)
	assert.Empty(t, usual.Check(map[string]any{"title": "x", "severity": "hurts"}))
}

func TestFormsThatAreNone(t *testing.T) {
	for text, want := range map[string]string{
		`{`:                 "no JSON",
		`[]`:                "an object",
		`{"type":"array"}`:  `"type": "object"`,
		`{"type":"object"}`: "1 to 100 fields",
		`{"type":"object","properties":{"a":{"type":"shape"}}}`:                                                       "no JSON Schema",
		`{"type":"object","properties":{"a":{"$ref":"file:///etc/passwd"}}}`:                                          "within the form itself",
		`{"type":"object","properties":{"a":{"$ref":"http://127.0.0.1:7420/x.json"}}}`:                                "within the form itself",
		`{"type":"object","properties":{"a":{"allOf":[` + strings.Repeat(`{"\u0024ref":"#/$defs/b"},`, 30) + `{}]}}}`: "refers to parts",
		strings.Repeat("[", 40) + strings.Repeat("]", 40):                                                             "nested",
		`"` + strings.Repeat("x", MaxBytes) + `"`:                                                                     "bytes",
	} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, want, "%.60s", text)
	}
}

func TestATemplateMakesAnotherFormOfJSON(t *testing.T) {
	tm, err := ParseTemplate([]byte(`{"entry": {"parts": {"line": "[lab] ${title}", "places": "${combinations}", "n": "${run}",
		"x": ["${none}", 3],
		"text": "on ${combinations}${none}: \"${message}\""}}}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"combinations", "message", "none", "run", "title"}, tm.Names)
	raw, err := json.Marshal(tm.Apply(map[string]any{"title": `a "b" ${message}`, "combinations": []string{"p", "q"}, "run": 4,
		"message": "${title}"}))
	require.NoError(t, err)
	assert.JSONEq(t, `{"entry": {"parts": {"line": "[lab] a \"b\" ${message}", "places": ["p", "q"], "n": 4, "x": [null, 3],
		"text": "on p, q: \"${title}\""}}}`, string(raw), "what a value says is no name")
}

func TestAnswersAreReadByPointer(t *testing.T) {
	a, err := ParseAnswer([]byte(`{"key": "D-7", "n": 12, "parts": {"status": [{"a/b": "open"}]}}`))
	require.NoError(t, err)
	for pointer, want := range map[string]string{"/key": "D-7", "/n": "12", "/parts/status/0/a~1b": "open", "/parts/status/9/x": "",
		"/no":    "",
		"/parts": "", "/key/deeper": ""} {
		assert.Equal(t, want, a.At(pointer), pointer)
	}
}

func FuzzForm(f *testing.F) {
	f.Add([]byte(desk), "title")
	f.Add([]byte(Usual), "x")
	f.Fuzz(func(t *testing.T, raw []byte, text string) {
		x, err := Parse(raw)
		if err != nil {
			return
		}
		values := x.Fill(map[string]any{"title": text, "tests": []string{text, text}, "run": 3})
		_ = x.Check(values)
		if tm, err := ParseTemplate(raw); err == nil {
			_, err = json.Marshal(tm.Apply(values))
			assert.NoError(t, err)
		}
	})
}

func TestTitlesThatSayTheSame(t *testing.T) {
	assert.Equal(t, 1.0, Alike("The berth cannot be held!", "the BERTH cannot, be held"))
	assert.Zero(t, Alike("The berth", "A tide"))
	assert.Zero(t, Alike("", "…"))
	assert.InDelta(t, 0.75, Alike("no button hold berth", "no button hold tide"), 0.001)
}
