package form

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// slot is where a template takes a value from: ${name}.
var slot = regexp.MustCompile(`\$\{([A-Za-z][A-Za-z0-9_-]{0,63})\}`)

// Template is JSON with ${name} in its texts.
type Template struct {
	doc   any
	Names []string // that it asks for, sorted
}

// ParseTemplate reads a template.
func ParseTemplate(raw []byte) (*Template, error) {
	doc, err := decode(raw)
	if err != nil {
		return nil, err
	}
	t := &Template{doc: doc}
	walk(doc, func(s string) any {
		for _, m := range slot.FindAllStringSubmatch(s, -1) {
			if !slices.Contains(t.Names, m[1]) {
				t.Names = append(t.Names, m[1])
			}
		}
		return s
	})
	slices.Sort(t.Names)
	return t, nil
}

// Apply puts values in place of names. A text that is one name alone becomes the value as it
// is, a list or a number too; within a text a list becomes its parts with commas between
// them. What there is no value of becomes null, or nothing within a text.
func (t *Template) Apply(values map[string]any) any {
	return walk(t.doc, func(s string) any {
		if m := slot.FindStringSubmatch(s); m != nil && m[0] == s {
			return values[m[1]]
		}
		return Expand(s, values)
	})
}

// Expand puts values in place of ${name} in a text.
func Expand(s string, values map[string]any) string {
	return slot.ReplaceAllStringFunc(s, func(m string) string { return Text(values[m[2:len(m)-1]]) })
}

// Text is a value within a text: a list's parts have commas between them.
func Text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case int:
		return strconv.Itoa(v)
	case []string:
		return strings.Join(v, ", ")
	case []any:
		parts := make([]string, len(v))
		for i, x := range v {
			parts[i] = Text(x)
		}
		return strings.Join(parts, ", ")
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}

// walk copies a document with each of its texts replaced; names of fields stay.
func walk(doc any, text func(string) any) any {
	switch v := doc.(type) {
	case string:
		return text(v)
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = walk(x, text)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, x := range v {
			out[k] = walk(x, text)
		}
		return out
	}
	return doc
}

// Answer is JSON that a tracker answered.
type Answer struct{ doc any }

// ParseAnswer reads one.
func ParseAnswer(raw []byte) (Answer, error) {
	doc, err := decode(raw)
	return Answer{doc}, err
}

// At is the text or number at a JSON Pointer (RFC 6901), as a text; "" where there is none.
func (a Answer) At(pointer string) string {
	switch v := a.In(pointer).doc.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	}
	return ""
}

// In is the part of an answer at a JSON Pointer.
func (a Answer) In(pointer string) Answer {
	doc := a.doc
	for _, step := range strings.Split(pointer, "/")[1:] {
		step = strings.NewReplacer("~1", "/", "~0", "~").Replace(step)
		switch v := doc.(type) {
		case map[string]any:
			doc = v[step]
		case []any:
			i, err := strconv.Atoi(step)
			if err != nil || i < 0 || i >= len(v) {
				return Answer{}
			}
			doc = v[i]
		default:
			return Answer{}
		}
	}
	return Answer{doc}
}

// List are the parts of an answer that is a list.
func (a Answer) List() (out []Answer) {
	all, _ := a.doc.([]any)
	for _, x := range all {
		out = append(out, Answer{x})
	}
	return out
}

// IsPointer reports whether a text is a JSON Pointer.
func IsPointer(s string) bool { return strings.HasPrefix(s, "/") && len(s) <= 200 }
