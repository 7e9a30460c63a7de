package bidi

import (
	"encoding/json"
	"net"
	"testing"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/valyala/fasthttp"
)

// other is the browser's side: it answers a command with what the test says.
func other(t *testing.T, answer func(method string, id int64) string) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var up websocket.FastHTTPUpgrader
	go func() {
		_ = fasthttp.Serve(l, func(ctx *fasthttp.RequestCtx) {
			_ = up.Upgrade(ctx, func(ws *websocket.Conn) {
				for {
					var m struct {
						ID     int64
						Method string
					}
					if ws.ReadJSON(&m) != nil {
						return
					}
					if m.Method == "hang.up" {
						ws.Close()
						return
					}
					if ws.WriteMessage(websocket.TextMessage, []byte(`{"type":"event","method":"log.entryAdded","params":{"text":"before"}}`)) != nil ||
						ws.WriteMessage(websocket.TextMessage, []byte(answer(m.Method, m.ID))) != nil {
						return
					}
				}
			})
		})
	}()
	return "ws://" + l.Addr().String()
}

func TestCommandsEventsAndErrors(t *testing.T) {
	address := other(t, func(method string, id int64) string {
		out := map[string]any{"type": "success", "id": id, "result": map[string]any{"contexts": []any{map[string]any{"context": "c1"}}}}
		if method == "no.such" {
			out = map[string]any{"type": "error", "id": id, "error": "unknown command", "message": "no.such"}
		}
		raw, _ := json.Marshal(out)
		return string(raw)
	})
	c, err := Dial(t.Context(), address, nil)
	require.NoError(t, err)
	events := make(chan string, 10)
	c.On("log.entryAdded", func(e Event) { events <- string(e.Params) })
	ids, err := c.TopContexts(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"c1"}, ids)
	assert.JSONEq(t, `{"text":"before"}`, <-events, "an event before the answer was handled before it")
	require.NoError(t, c.Subscribe(t.Context(), "log.entryAdded"))
	err = c.Send(t.Context(), "no.such", nil, nil)
	assert.True(t, Unsupported(err))
	assert.EqualError(t, err, "no.such: unknown command: no.such")
	require.NoError(t, c.Close())
	assert.Error(t, c.Send(t.Context(), "late", nil, nil))
}

func TestALostConnectionEndsItsCommands(t *testing.T) {
	c, err := Dial(t.Context(), other(t, func(string, int64) string { return "{}" }), nil)
	require.NoError(t, err)
	assert.ErrorContains(t, c.Send(t.Context(), "hang.up", nil, nil), "hang.up: ")
	assert.Error(t, c.Send(t.Context(), "after", nil, nil))
	_, err = Dial(t.Context(), "ws://127.0.0.1:1", nil)
	assert.ErrorContains(t, err, "connect BiDi")
}
