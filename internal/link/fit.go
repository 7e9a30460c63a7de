package link

import (
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"parallelpane/internal/script"
)

// clipped is how much of what a step says is kept when a detail is too large, in
// bytes.
const clipped = 300

// Fit cuts a result to what the service takes, and says in it what was cut. The
// verdict, its time and the places of its steps stay.
func (r Result) Fit() Result {
	r.Message = Clip(r.Message, MaxMessage)
	size := sizeOf(r.Detail)
	if size <= MaxDetail {
		return r
	}
	d := r.Detail
	d.Given, d.Cut = nil, append(d.Cut[:len(d.Cut):len(d.Cut)], fmt.Sprintf("what it says of its steps: it had %d bytes and %d are kept", size, MaxDetail))
	d.Steps = make([]script.StepResult, len(r.Detail.Steps))
	for i, s := range r.Detail.Steps {
		s.Title, s.Message, s.Matched = Clip(s.Title, clipped), Clip(s.Message, clipped), Clip(s.Matched, clipped)
		d.Steps[i] = s
	}
	if sizeOf(d) > MaxDetail { // so many steps, or something else that nobody needs so long
		d = Detail{Steps: []script.StepResult{}, Browser: Clip(d.Browser, clipped), Version: Clip(d.Version, clipped), Device: Clip(d.Device, clipped),
			StartMS: d.StartMS, DriverMS: d.DriverMS, End: Clip(d.End, clipped), Cut: []string{fmt.Sprintf("everything it says besides its verdict: it had %d bytes, %d are taken", size, MaxDetail)}}
	}
	r.Detail = d
	return r
}

// Bare is a result that nothing can be wrong with but its verdict: what is left
// when the service refuses one.
func (r Result) Bare(why string) Result {
	r.Message, r.Files = Clip(r.Message, clipped), []File{}
	r.Detail = Detail{Steps: []script.StepResult{}, Cut: []string{"everything besides the verdict: the service refused it: " + Clip(why, clipped)}}
	return r
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
