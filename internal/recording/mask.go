package recording

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"parallelpane/internal/core/record"
)

// Masked stands in place of a secret.
const Masked = "•••"

// Mask takes secrets out of what is kept. The nil Mask changes nothing.
type Mask struct {
	plain    []string
	replacer *strings.Replacer
	needles  [][]byte
}

// NewMask returns a mask for secrets, in every form in which they may come; see forms.
func NewMask(secrets ...string) *Mask {
	m := &Mask{}
	forms := map[string]bool{}
	for _, s := range secrets {
		if len(s) < record.MinSecret {
			continue
		}
		m.plain = append(m.plain, s)
		for _, form := range formsOf(s) {
			forms[form] = true
		}
	}
	if len(forms) == 0 {
		return nil
	}
	all := make([]string, 0, len(forms))
	for f := range forms {
		all = append(all, f)
	}
	slices.SortFunc(all, func(a, b string) int { return len(b) - len(a) }) // the longest first
	var pairs []string
	for _, f := range all {
		pairs = append(pairs, f, Masked)
		m.needles = append(m.needles, []byte(f))
	}
	m.replacer = strings.NewReplacer(pairs...)
	return m
}

// Text masks a text.
func (m *Mask) Text(s string) string {
	if m == nil {
		return s
	}
	return m.replacer.Replace(s)
}

// Bytes masks bytes.
func (m *Mask) Bytes(b []byte) []byte {
	if m == nil || !m.within(b) {
		return b
	}
	return []byte(m.replacer.Replace(string(b)))
}

// Hides reports whether a text holds a secret.
func (m *Mask) Hides(s string) bool { return m.Text(s) != s }

func (m *Mask) within(b []byte) bool {
	return slices.ContainsFunc(m.needles, func(n []byte) bool { return bytes.Contains(b, n) })
}

// JSON masks the strings in a JSON value, and keys that are typed one by one.
// What is not JSON becomes the mask.
func (m *Mask) JSON(raw json.RawMessage) json.RawMessage {
	if m == nil || len(raw) == 0 || (!m.within(raw) && !bytes.Contains(raw, []byte("keyDown")) && !bytes.Contains(raw,
		[]byte(`"value"`)) && !bytes.Contains(raw, []byte(`\`))) {
		return raw
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err != nil {
		out, _ := json.Marshal(Masked)
		return out
	}
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(m.walk(v)); err != nil {
		out, _ := json.Marshal(Masked)
		return out
	}
	return bytes.TrimRight(buf.Bytes(), "\n")
}

func (m *Mask) walk(v any) any {
	switch v := v.(type) {
	case string:
		return m.Text(v)
	case json.Number:
		if masked := m.Text(v.String()); masked != v.String() {
			return masked
		}
	case []any:
		if m.typed(v) {
			return []any{Masked}
		}
		for i := range v {
			v[i] = m.walk(v[i])
		}
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, x := range v {
			out[m.Text(k)] = m.walk(x)
		}
		return out
	}
	return v
}

// typed says whether a list spells a secret: characters, or the key actions of
// W3C WebDriver section 15.
func (m *Mask) typed(list []any) bool {
	text := spelt(list)
	return slices.ContainsFunc(m.plain, func(s string) bool { return strings.Contains(text, s) })
}
