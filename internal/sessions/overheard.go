package sessions

import (
	"encoding/json"
	"net/http"

	"parallelpane/internal/webdriver"
)

// overBiDi is the method of commands in the log that came over a client's own BiDi
// connection; their path is their name.
const overBiDi = "BiDi"

// Overheard puts a command in the log that a client gives over its own BiDi connection,
// when its answer is told; one that is never answered is not in it.
func (s *Session) Overheard(name string, params json.RawMessage) (answered func(result json.RawMessage, fault *webdriver.Error)) {
	rec := s.tap.rec.Load()
	if rec == nil {
		return func(json.RawMessage, *webdriver.Error) {}
	}
	x := exchange{method: overBiDi, path: name, body: params, at: rec.At()}
	return func(result json.RawMessage, fault *webdriver.Error) {
		status, value := http.StatusOK, any(result)
		if fault != nil {
			status, value = http.StatusInternalServerError, fault
		}
		raw, err := json.Marshal(map[string]any{"value": value})
		x.took, x.answer, x.err = rec.At()-x.at, Answer{Status: status, Body: raw}, err
		rec.note(x, nil)
	}
}
