package walls

import (
	"bytes"
	"cmp"
	"compress/flate"
	"encoding/json"
	"fmt"
	"io"
	"sync"

	"github.com/fxamacker/cbor/v2"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/record"
	"parallelpane/internal/store"
)

// What an attempt says in detail is kept in three pieces: what every attempt of a
// script says of its steps alike, what every attempt of a pane says of its browser
// alike, and what is its own. Of the first two each distinct piece is stored once.

// setup is what attempts of a pane have in common.
type setup struct {
	Browser  string                `json:"browser"`
	Version  string                `json:"version"`
	Device   string                `json:"device"`
	Emulated device.Outcome        `json:"emulated"`
	Record   record.Policy         `json:"record"`
	Lacking  []attempt.NotRecorded `json:"lacking"`
}

// own is what an attempt says alone. It is short: times in milliseconds, a step's
// start since the end of the one before.
type own struct {
	_        struct{} `cbor:",toarray"`
	StartMS  int64
	DriverMS int64
	Steps    []int64          // of each step: its start and how long it took
	Ill      map[int]ownStep  // steps that did not pass, or say something
	Rest     *json.RawMessage // a detail that is kept whole, as JSON
	End      string
	Cut      []string
}

type ownStep struct {
	_       struct{} `cbor:",toarray"`
	State   attempt.State
	Message string
	Site    bool
}

// Pack writes a detail for the records. One with capabilities that a driver gave
// is like no other and is kept whole. It panics on a detail that cannot be written,
// which is a mistake in the program.
func Pack(d attempt.Detail) (out store.Detail) {
	o := own{StartMS: d.StartMS, DriverMS: d.DriverMS, End: d.End, Cut: d.Cut}
	if len(d.Given) > 0 {
		raw := json.RawMessage(store.JSON(d))
		o = own{Rest: &raw}
	} else {
		steps := make([]attempt.Step, len(d.Steps))
		var at int64
		for i, s := range d.Steps {
			o.Steps = append(o.Steps, s.StartMS-at, s.TookMS)
			at = s.StartMS + s.TookMS
			if s.State != attempt.Passed || s.Message != "" || s.Site {
				if o.Ill == nil {
					o.Ill = map[int]ownStep{}
				}
				o.Ill[i] = ownStep{State: s.State, Message: s.Message, Site: s.Site}
			}
			s.StartMS, s.TookMS, s.State, s.Message, s.Site = 0, 0, "", "", false
			steps[i] = s
		}
		out.Steps = squeezed([]byte(store.JSON(steps)))
		out.Setup = squeezed([]byte(store.JSON(setup{d.Browser, d.Version, d.Device, d.Emulated, d.Record, d.Lacking})))
	}
	body, err := cbor.Marshal(o)
	if err != nil {
		panic(fmt.Sprintf("service: a detail cannot be written as CBOR: %v", err))
	}
	out.Body = squeezed(body)
	return out
}

// Unpack is the inverse of Pack.
func Unpack(d store.Detail) (out attempt.Detail, err error) {
	fail := func(err error) (attempt.Detail, error) {
		return attempt.Detail{}, fmt.Errorf("what an attempt says in detail: %w", err)
	}
	var o own
	body, err := unsqueezed(d.Body)
	if err == nil {
		err = cbor.Unmarshal(body, &o)
	}
	if err != nil {
		return fail(err)
	}
	if o.Rest != nil {
		err = json.Unmarshal(*o.Rest, &out)
		return out, err
	}
	steps, err := unsqueezed(d.Steps)
	if err == nil {
		err = json.Unmarshal(steps, &out.Steps)
	}
	if err != nil {
		return fail(err)
	}
	var u setup
	raw, err := unsqueezed(d.Setup)
	if err == nil {
		err = json.Unmarshal(raw, &u)
	}
	if err != nil || len(o.Steps) != 2*len(out.Steps) {
		return fail(cmp.Or(err, fmt.Errorf("%d times of %d steps", len(o.Steps), len(out.Steps))))
	}
	out.Browser, out.Version, out.Device, out.Emulated, out.Record, out.Lacking = u.Browser, u.Version, u.Device,
		u.Emulated, u.Record, u.Lacking
	out.StartMS, out.DriverMS, out.End, out.Cut = o.StartMS, o.DriverMS, o.End, o.Cut
	var at int64
	for i := range out.Steps {
		s := &out.Steps[i]
		s.State, s.StartMS, s.TookMS = attempt.Passed, at+o.Steps[2*i], o.Steps[2*i+1]
		if ill, ok := o.Ill[i]; ok {
			s.State, s.Message, s.Site = ill.State, ill.Message, ill.Site
		}
		at = s.StartMS + s.TookMS
	}
	return out, nil
}

// Pieces below this many bytes are not worth compressing.
const plainBelow = 100

// squeezed compresses a piece; its first byte says whether it is.
func squeezed(b []byte) []byte {
	if len(b) < plainBelow {
		return append([]byte{0}, b...)
	}
	buf := bytes.NewBuffer([]byte{1})
	w := squeezers.Get().(*flate.Writer)
	defer squeezers.Put(w)
	w.Reset(buf)
	_, _ = w.Write(b) // a buffer takes everything
	_ = w.Close()
	return buf.Bytes()
}

// squeezers are used again: each holds more than half a megabyte.
var squeezers = sync.Pool{New: func() any {
	w, _ := flate.NewWriter(nil, flate.DefaultCompression) // there is such a level
	return w
}}

func unsqueezed(b []byte) ([]byte, error) {
	if len(b) == 0 {
		return nil, io.ErrUnexpectedEOF
	}
	if b[0] == 0 {
		return b[1:], nil
	}
	return io.ReadAll(flate.NewReader(bytes.NewReader(b[1:])))
}
