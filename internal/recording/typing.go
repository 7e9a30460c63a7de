package recording

import (
	"encoding/json"
	"strings"
)

// Typing masks secrets that are typed in pieces, down to single keys. What has been
// typed so far may be the beginning of a secret, so that is masked too: rather too much
// than the secret's first letters. The nil Typing changes nothing.
type Typing struct {
	mask *Mask
	tail string // of what was typed before
}

// Typing begins with nothing typed; nil for the nil Mask.
func (m *Mask) Typing() *Typing {
	if m == nil {
		return nil
	}
	return &Typing{mask: m}
}

// Text masks what is typed next.
func (t *Typing) Text(text string) string {
	joined := t.tail + text
	marked := make([]bool, len(joined))
	mark := func(from, to int) {
		for i := from; i < to; i++ {
			marked[i] = true
		}
	}
	longest := 0
	for _, s := range t.mask.plain {
		longest = max(longest, len(s))
		for at := 0; ; {
			i := strings.Index(joined[at:], s)
			if i < 0 {
				break
			}
			mark(at+i, at+i+len(s))
			at += i + 1
		}
		for k := min(len(s)-1, len(joined)); k > 0; k-- {
			if strings.HasSuffix(joined, s[:k]) {
				mark(len(joined)-k, len(joined))
				break
			}
		}
	}
	var out strings.Builder
	hidden := false
	for i := len(t.tail); i < len(joined); i++ {
		if !marked[i] {
			out.WriteByte(joined[i])
		} else if !hidden {
			out.WriteString(Masked)
		}
		hidden = marked[i]
	}
	t.tail = joined[max(0, len(joined)-longest):]
	return strings.ToValidUTF8(out.String(), Masked)
}

// Command masks the arguments of a command that types: text, a list of keys, or the key
// actions of W3C WebDriver section 15 wherever they stand. Others stay as they are.
func (t *Typing) Command(arguments json.RawMessage) json.RawMessage {
	if t == nil || len(arguments) == 0 {
		return arguments
	}
	var v map[string]any
	if json.Unmarshal(arguments, &v) != nil {
		return arguments
	}
	text, ok := v["text"].(string)
	if keys, is := v["value"].([]any); !ok && is {
		text, ok = spelt(keys), true
	}
	if ok {
		masked := t.Text(text)
		if masked == text {
			return arguments
		}
		v["text"] = masked
		delete(v, "value")
	} else if !t.actions(v) {
		return arguments
	}
	out, err := json.Marshal(v)
	if err != nil {
		out, _ = json.Marshal(Masked)
	}
	return out
}

// actions masks lists of key actions below a value, and reports whether there was
// something to be masked.
func (t *Typing) actions(v any) (found bool) {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			if list, is := x.([]any); is && k == "actions" && v["type"] == "key" {
				if text := spelt(list); t.Text(text) != text {
					v[k], found = []any{Masked}, true
				}
				continue
			}
			found = t.actions(x) || found
		}
	case []any:
		for _, x := range v {
			found = t.actions(x) || found
		}
	}
	return found
}

// spelt is what a list of characters, or of key actions, types.
func spelt(list []any) string {
	var b strings.Builder
	for _, x := range list {
		switch x := x.(type) {
		case string:
			b.WriteString(x)
		case map[string]any:
			if s, ok := x["value"].(string); ok && x["type"] == "keyDown" {
				b.WriteString(s)
			}
		}
	}
	return b.String()
}
