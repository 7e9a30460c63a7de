// Package form fills in the form of a defect tracker. The form is a JSON Schema that the
// tracker gives; what the lab knows of a cause goes into the fields that are named after it,
// or say so with x-fill, and a person adds the rest. Where a tracker wants another form of
// JSON, a template makes it of the filled form. It sends nothing.
package form

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// Bounds of a form, of a template and of an answer: bytes, fields, and how deep one is nested.
const (
	MaxBytes  = 256 << 10
	maxFields = 100
	maxDepth  = 32
	maxRefs   = 20 // within a form: what refers to what refers on may cost any time to check
)

// Usual is the form of a tracker that gives none.
const Usual = `{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "A defect",
  "type": "object",
  "required": ["title", "severity"],
  "properties": {
    "title": {"type": "string", "title": "Title", "minLength": 1, "maxLength": 200},
    "severity": {"type": "string", "title": "Severity", "enum": ["blocks", "hurts", "annoys"]},
    "description": {"type": "string", "title": "Description", "maxLength": 20000}
  }
}`

// Form is a tracker's form.
type Form struct {
	Raw    json.RawMessage // the schema, as it was given
	fields map[string]field
	names  []string // of the fields, in their order
	schema *jsonschema.Schema
}

// Names are those of the fields, in their order.
func (f *Form) Names() []string { return f.names }

// field is what is read of a field of the form to fill it in.
type field struct {
	Type   any    `json:"type"`
	Fill   string `json:"x-fill"`
	Items  *field `json:"items"`
	Max    *int   `json:"maxLength"`
	Most   *int   `json:"maxItems"`
	Coding string `json:"contentEncoding"`
	Media  string `json:"contentMediaType"`
}

func (f *field) is(kind string) bool {
	switch t := f.Type.(type) {
	case string:
		return t == kind
	case []any:
		return slices.Contains(t, any(kind))
	}
	return f.Type == nil
}

// none loads nothing: a schema refers to itself alone.
type none struct{}

func (none) Load(url string) (any, error) {
	return nil, fmt.Errorf("it refers to %.80q: only what is within the form itself can be referred to", url)
}

// Parse reads a form. It is an object of at most 100 fields, and refers to nothing outside
// itself.
func Parse(raw []byte) (*Form, error) {
	doc, err := decode(raw)
	if err != nil {
		return nil, err
	}
	top, ok := doc.(map[string]any)
	if !ok {
		return nil, errors.New("a form is a JSON Schema, which is an object")
	}
	if t, _ := top["type"].(string); t != "object" {
		return nil, errors.New(`a form is a JSON Schema with "type": "object"`)
	}
	if n := refs(doc); n > maxRefs {
		return nil, fmt.Errorf("a form refers to parts of itself at most %d times, found %d", maxRefs, n)
	}
	f := &Form{Raw: raw}
	var read struct {
		Properties json.RawMessage `json:"properties"`
	}
	fields := map[string]json.RawMessage{}
	if err := json.Unmarshal(raw, &read); err != nil {
		return nil, fmt.Errorf("the form's properties: %w", err)
	}
	if err := json.Unmarshal([]byte(cmp.Or(string(read.Properties), "{}")), &fields); err != nil {
		return nil, fmt.Errorf("the form's properties: %w", err)
	}
	if n := len(fields); n == 0 || n > maxFields {
		return nil, fmt.Errorf("a form has 1 to %d fields under properties, found %d", maxFields, n)
	}
	f.fields, f.names = map[string]field{}, keysOf(read.Properties)
	for name, raw := range fields {
		var x field
		if json.Unmarshal(raw, &x) == nil { // what cannot be read so is left to the person
			f.fields[name] = x
		}
	}
	c := jsonschema.NewCompiler()
	c.UseLoader(none{})
	c.AssertFormat()
	const address = "form:tracker"
	if err := c.AddResource(address, doc); err != nil {
		return nil, fmt.Errorf("the form: %w", err)
	}
	if f.schema, err = c.Compile(address); err != nil {
		return nil, fmt.Errorf("the form is no JSON Schema: %s", firstLine(err))
	}
	return f, nil
}

// keysOf are the names in a JSON object, each once, in their order.
func keysOf(object []byte) (names []string) {
	dec := json.NewDecoder(bytes.NewReader(object))
	_, _ = dec.Token() // {
	for dec.More() {
		var value json.RawMessage
		name, err := dec.Token()
		if err != nil || dec.Decode(&value) != nil {
			return names
		}
		if s, ok := name.(string); ok && !slices.Contains(names, s) {
			names = append(names, s)
		}
	}
	return names
}

// refs counts what refers to another part of a form.
func refs(doc any) (n int) {
	switch v := doc.(type) {
	case []any:
		for _, x := range v {
			n += refs(x)
		}
	case map[string]any:
		for k, x := range v {
			if strings.HasPrefix(k, "$") && strings.HasSuffix(strings.ToLower(k), "ref") {
				n++
			}
			n += refs(x)
		}
	}
	return n
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(strings.TrimSpace(err.Error()), "\n")
	if r := []rune(line); len(r) > 300 {
		line = string(r[:299]) + "…"
	}
	return line
}

// decode reads JSON that a stranger sent.
func decode(raw []byte) (any, error) {
	if len(raw) > MaxBytes {
		return nil, fmt.Errorf("it has %d bytes; at most %d are taken", len(raw), MaxBytes)
	}
	if !utf8.Valid(raw) {
		return nil, errors.New("it is no UTF-8")
	}
	for depth, i, quoted := 0, 0, false; i < len(raw); i++ {
		switch b := raw[i]; {
		case quoted && b == '\\':
			i++
		case b == '"':
			quoted = !quoted
		case !quoted && (b == '{' || b == '['):
			if depth++; depth > maxDepth {
				return nil, fmt.Errorf("it is nested more than %d deep", maxDepth)
			}
		case !quoted && (b == '}' || b == ']'):
			depth--
		}
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("it is no JSON: %w", err)
	}
	return doc, nil
}

// Fill puts what is known into the fields that are called like it, whatever their case and
// their - and _, or that name it with x-fill. A list goes into a text as lines, and one thing
// into a list. What does not fit is left out; what is too long is cut.
func (f *Form) Fill(known map[string]any) map[string]any {
	out, named := map[string]any{}, map[string]any{}
	for name, v := range known {
		named[plain(name)] = v
	}
	for _, name := range f.names {
		x, ok := f.fields[name]
		if !ok {
			continue
		}
		v, ok := named[plain(name)]
		if x.Fill != "" {
			v, ok = named[plain(x.Fill)]
		}
		if ok {
			if v, ok = x.take(v); ok {
				out[name] = v
			}
		}
	}
	return out
}

func plain(name string) string {
	return strings.ToLower(strings.NewReplacer("-", "", "_", "", " ", "").Replace(name))
}

// take makes what is known fit a field.
func (f *field) take(v any) (any, bool) {
	switch v := v.(type) {
	case string:
		if v == "" {
			return nil, false
		}
		if f.is("string") {
			return f.cut(v), true
		}
		if f.is("array") && f.Items != nil {
			return f.take([]string{v})
		}
	case []string:
		if len(v) == 0 {
			return nil, false
		}
		if f.is("array") && f.Items != nil && f.Items.is("string") {
			if f.Most != nil && len(v) > *f.Most {
				v = v[:max(0, *f.Most)]
			}
			list := make([]any, len(v))
			for i, x := range v {
				list[i] = f.Items.cut(x)
			}
			return list, true
		}
		if f.is("string") {
			return f.cut(strings.Join(v, "\n")), true
		}
	case int:
		if f.is("integer") || f.is("number") {
			return v, true
		}
		if f.is("string") {
			return strconv.Itoa(v), true
		}
	}
	return nil, false
}

func (f *field) cut(s string) string {
	if r := []rune(s); f.Max != nil && *f.Max > 0 && len(r) > *f.Max {
		return string(r[:*f.Max-1]) + "…"
	}
	return s
}

// Pictures is the field that wants pictures themselves, in base64 as its contentEncoding
// says, and not where they are; "" for none.
func (f *Form) Pictures() string {
	for _, name := range f.names {
		x, ok := f.fields[name]
		if ok && x.Items != nil && x.is("array") && x.Items.Coding == "base64" && strings.HasPrefix(x.Items.Media, "image/") {
			return name
		}
	}
	return ""
}

// Problem is something in a filled form that is not as the form has it.
type Problem struct {
	Field   string `json:"field" description:"a JSON Pointer (RFC 6901); empty for the form itself"`
	Message string `json:"message"`
}

// Check says what of a filled form is not as the form has it; nothing when it can be sent.
func (f *Form) Check(values map[string]any) []Problem {
	raw, err := json.Marshal(values)
	if err != nil {
		return []Problem{{Message: err.Error()}}
	}
	doc, err := decode(raw)
	if err != nil {
		return []Problem{{Message: err.Error()}}
	}
	err = f.schema.Validate(doc)
	if err == nil {
		return nil
	}
	wrong, ok := errors.AsType[*jsonschema.ValidationError](err)
	if !ok {
		return []Problem{{Message: firstLine(err)}}
	}
	p := message.NewPrinter(language.English)
	var out []Problem
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		for _, x := range e.Causes {
			walk(x)
		}
		if len(e.Causes) == 0 && len(out) < maxFields {
			out = append(out, Problem{pointer(e.InstanceLocation), e.ErrorKind.LocalizedString(p)})
		}
	}
	walk(wrong)
	return out
}

func pointer(steps []string) string {
	var b strings.Builder
	for _, s := range steps {
		b.WriteString("/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(s))
	}
	return b.String()
}
