package remote

import (
	"encoding/json"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/webdriver"
)

func TestEventsOfTheLabsOwnRecordingStayInTheLab(t *testing.T) {
	const entry, sent, load = `{"type":"event","method":"log.entryAdded"}`, `{"type":"event","method":"network.beforeRequestSent"}`,
		`{"type":"event","method":"browsingContext.load"}`
	for name, c := range map[string]struct {
		client, browser []string // messages, the browser's as answers
		has             []string // events that reach the client then
	}{
		"nothing asked for": {nil, nil, nil},
		"an event": {[]string{`{"id":1,"method":"session.subscribe","params":{"events":["log.entryAdded"]}}`}, nil,
			[]string{entry}},
		"a module": {[]string{`{"id":1,"method":"session.subscribe","params":{"events":["network"]}}`}, nil,
			[]string{sent}},
		"an event, and not any more": {[]string{
			`{"id":1,"method":"session.subscribe","params":{"events":["log.entryAdded","network"]}}`,
			`{"id":2,"method":"session.unsubscribe","params":{"events":["log"]}}`}, nil, []string{sent}},
		"a subscription, and not any more": {[]string{`{"id":1,"method":"session.subscribe","params":{"events":["log"]}}`,
			`{"id":2,"method":"session.subscribe","params":{"events":["browsingContext"]}}`},
			[]string{`{"id":1,"type":"success","result":{"subscription":"a"}}`, `{"id":2,"type":"success","result":{"subscription":"b"}}`},
			[]string{entry, load}},
		"what the browser refused": {[]string{`{"id":1,"method":"session.subscribe","params":{"events":["log"]}}`},
			[]string{`{"id":1,"type":"error","error":"invalid argument"}`}, nil},
		"an old browser's answer": {[]string{`{"id":1,"method":"session.subscribe","params":{"events":["log"]}}`},
			[]string{`{"id":1,"type":"success","result":{}}`}, []string{entry}},
	} {
		t.Run(name, func(t *testing.T) {
			f := &filter{}
			for _, m := range c.client {
				f.asks([]byte(m))
			}
			for _, m := range c.browser {
				assert.True(t, f.wants([]byte(m)), "answers are for the client")
			}
			check := func(has []string) {
				t.Helper()
				for _, e := range []string{entry, sent, load} {
					assert.Equal(t, slices.Contains(has, e), f.wants([]byte(e)), e)
				}
			}
			check(c.has)
			if len(c.browser) == 2 {
				f.asks([]byte(`{"id":3,"method":"session.unsubscribe","params":{"subscriptions":["a"]}}`))
				check([]string{load})
			}
		})
	}
	f := &filter{}
	f.asks([]byte("not JSON"))
	assert.True(t, f.wants([]byte("not JSON")), "what is no message is passed on as it is")
}

func TestCommandPaths(t *testing.T) {
	for path, want := range map[string][]any{
		"/sessions/a/wd":                 {"a", "", true},
		"/sessions/a/wd/element/e/click": {"a", "/element/e/click", true},
		"/sessions/a/wd//x/../y%2Fz":     {"a", "//x/../y%2Fz", true},
		"/sessions/a/wdx":                {"a", "x", false},
		"/sessions/a/picture":            {"a/picture", "", false},
		"/slices/7":                      {"/slices/7", "", false},
		"/sessions/a/b/wd/x":             {"a/b", "/x", false},
	} {
		id, rest, ok := commandPath(path)
		assert.Equal(t, want, []any{id, rest, ok}, path)
	}
	id, ok := bidiPath("/sessions/a/bidi")
	assert.Equal(t, []any{"a", true}, []any{id, ok})
	_, ok = bidiPath("/sessions/a/b/bidi")
	assert.False(t, ok)
}

// What a client asks over BiDi, and what it is answered, is heard for the log; events
// and answers to nobody are not.
func TestWhatIsAskedOverBiDiIsHeard(t *testing.T) {
	var log []string
	f := &filter{heard: func(name string, params json.RawMessage) func(json.RawMessage, *webdriver.Error) {
		return func(result json.RawMessage, fault *webdriver.Error) {
			if fault != nil {
				result = json.RawMessage(fault.Code)
			}
			log = append(log, name+" "+string(params)+" "+string(result))
		}
	}}
	f.asks([]byte(`{"id":1,"method":"script.evaluate","params":{"expression":"1"}}`))
	f.asks([]byte(`{"id":2,"method":"browsingContext.close","params":{}}`))
	f.wants([]byte(`{"type":"event","id":1,"method":"log.entryAdded","params":{}}`))
	f.wants([]byte(`{"type":"error","id":2,"error":"no such frame","message":"gone"}`))
	f.wants([]byte(`{"type":"success","id":1,"result":{"value":1}}`))
	f.wants([]byte(`{"type":"success","id":1,"result":{"value":1}}`))
	f.refused([]byte(`{"id":3,"method":"browsingContext.navigate","params":{"url":"file:///etc/passwd"}}`), "no")
	assert.Equal(t, []string{`browsingContext.close {} no such frame`, `script.evaluate {"expression":"1"} {"value":1}`,
		`browsingContext.navigate {"url":"file:///etc/passwd"} invalid argument`}, log)
	for i := range 2 * maxPending {
		f.asks([]byte(`{"id":` + strconv.Itoa(i+10) + `,"method":"session.status","params":{}}`))
	}
	assert.LessOrEqual(t, len(f.pending), maxPending)
}
