package link

import (
	"parallelpane/internal/core/attempt"
)

// Fit cuts a result to what the service takes, and says in it what was cut. The
// verdict, its time and the places of its steps stay.
func (r Result) Fit() Result {
	r.Message, r.Detail, r.Seen = attempt.Clip(r.Message, attempt.MaxMessage), r.Detail.Fit(), attempt.FitSeen(r.Seen)
	return r
}

// Bare is a result that nothing can be wrong with but its verdict: what is left
// when the service refuses one.
func (r Result) Bare(why string) Result {
	r.Message, r.Files, r.Seen = attempt.Clip(r.Message, bareMessage), []attempt.File{}, nil
	r.Detail = attempt.Detail{Steps: []attempt.Step{}, Cut: []string{"everything besides the verdict: the service refused it: " +
		attempt.Clip(why, bareMessage)}}
	return r
}

// bareMessage is what is kept of the message of a result that was refused, in
// bytes.
const bareMessage = 300
