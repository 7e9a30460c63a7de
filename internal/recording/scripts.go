package recording

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"unicode/utf8"
)

// Scripts are the scripts that the commands of one recording run in pages: runners send
// the same long ones again and again.
type Scripts map[[sha256.Size]byte]int

// Bounds of what is kept of scripts.
const (
	longScript  = 1 << 10 // bytes; shorter ones are kept each time
	mostScript  = 8 << 10 // bytes of a long one, the first time
	mostScripts = 500     // that are told apart
)

// Fold shortens the arguments of a command that runs a script: one that an earlier command
// has run is named by that command's number. What is no such arguments stays as it is.
func (s Scripts) Fold(arguments json.RawMessage, number int) json.RawMessage {
	if len(arguments) <= longScript {
		return arguments
	}
	var a struct {
		Script *string         `json:"script"`
		Args   json.RawMessage `json:"args,omitempty"`
	}
	if json.Unmarshal(arguments, &a) != nil || a.Script == nil || len(*a.Script) <= longScript {
		return arguments
	}
	sum := sha256.Sum256([]byte(*a.Script))
	text := *a.Script
	if first, known := s[sum]; known {
		text = fmt.Sprintf("// the script of command %d", first)
	} else {
		if len(s) < mostScripts {
			s[sum] = number
		}
		if n := mostScript; len(text) > n {
			for !utf8.RuneStart(text[n]) {
				n--
			}
			text = fmt.Sprintf("%s\n// … and %d bytes more", text[:n], len(text)-n)
		}
	}
	a.Script = &text
	short, err := json.Marshal(a)
	if err != nil {
		return arguments
	}
	return short
}
