package attempt

import (
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/record"
)

// clipped is how much of what a step says is kept when a detail is too large, in
// bytes.
const clipped = 300

// Fit cuts a detail to what is taken of one, and says in it what was cut. The
// places of its steps stay.
func (d Detail) Fit() Detail {
	size := sizeOf(d)
	if size <= MaxDetail {
		return d
	}
	all := d.Steps
	d.Given, d.Cut = nil, append(d.Cut[:len(d.Cut):len(d.Cut)],
		fmt.Sprintf("what it says of its steps: it had %d bytes and %d are kept", size, MaxDetail))
	d.Steps = make([]Step, len(all))
	for i, s := range all {
		s.Title, s.Message, s.Matched = Clip(s.Title, clipped), Clip(s.Message, clipped), Clip(s.Matched, clipped)
		d.Steps[i] = s
	}
	if sizeOf(d) > MaxDetail { // so many steps, or something else that nobody needs so long
		d = Detail{Steps: []Step{}, Browser: Clip(d.Browser, clipped), Version: Clip(d.Version, clipped), Device: Clip(d.Device, clipped),
			StartMS: d.StartMS, DriverMS: d.DriverMS, End: Clip(d.End, clipped),
			Cut: []string{fmt.Sprintf("everything it says besides its verdict: it had %d bytes, %d are taken", size, MaxDetail)}}
	}
	return d
}

func sizeOf(d Detail) int {
	raw, err := json.Marshal(d)
	if err != nil {
		return MaxDetail + 1
	}
	return len(raw)
}

// Clip cuts a text to so many bytes, at the end of a character, and marks it as
// cut.
func Clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return s[:n] + " …"
}

// Detail is what an attempt keeps besides its verdict.
type Detail struct {
	Steps    []Step          `json:"steps"`
	Browser  string          `json:"browser"`
	Version  string          `json:"version"`
	Device   string          `json:"device"`
	Emulated device.Outcome  `json:"emulated"`
	StartMS  int64           `json:"start_ms"`  // from asking for the session until it was there
	DriverMS int64           `json:"driver_ms"` // spent waiting for the driver while the steps ran
	End      string          `json:"end,omitempty" description:"how a session of somebody else's runner ended"`
	Given    json.RawMessage `json:"given,omitempty" description:"capabilities as the driver gave them"`
	Record   record.Policy   `json:"record,omitempty" description:"what was to be recorded"`
	Lacking  []NotRecorded   `json:"lacking,omitempty" description:"what of it could not be, with the reason"`
	Cut      []string        `json:"cut,omitempty" description:"what of the result was left out because it was too large or not in order"`
}

// NotRecorded is a kind of recording that could not be had.
type NotRecorded struct {
	Kind   record.Kind `json:"kind"`
	Reason string      `json:"reason"`
}

// File is a file of an attempt, kept by its contents.
type File struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"` // screenshot, log, commands, video, network, console
	Media   string `json:"media"`
	Hash    string `json:"hash"`
	Size    int64  `json:"size"`
	Session int    `json:"session" description:"of the attempt's, from 1, that it was recorded of; 0: of none"`
}

// Bounds of an attempt.
const (
	MaxFiles   = 600
	MaxPiece   = 4 << 20  // of a file, in bytes
	MaxMessage = 16 << 10 // bytes
	MaxDetail  = 4 << 20  // bytes of JSON
)
