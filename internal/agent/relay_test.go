package agent

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEventsOfTheLabsOwnRecordingStayInTheLab(t *testing.T) {
	f := &filter{}
	load, request := []byte(`{"type":"event","method":"browsingContext.load","params":{}}`), []byte(`{"type":"event","method":"network.responseCompleted","params":{}}`)
	answer := []byte(`{"type":"success","id":1,"result":{}}`)
	assert.True(t, f.wants(answer))
	assert.True(t, f.wants([]byte("not JSON")), "what cannot be read is not for us to judge")
	assert.False(t, f.wants(load))
	f.asks([]byte(`{"id":1,"method":"session.subscribe","params":{"events":["browsingContext"]}}`))
	assert.True(t, f.wants(load), "a module stands for its events")
	assert.False(t, f.wants(request))
	f.asks([]byte(`{"id":2,"method":"session.subscribe","params":{"events":["network.responseCompleted"]}}`))
	assert.True(t, f.wants(request))
	f.asks([]byte(`{"id":3,"method":"session.unsubscribe","params":{"events":["network.responseCompleted"]}}`))
	assert.False(t, f.wants(request))
	f.asks([]byte(`{`))
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
