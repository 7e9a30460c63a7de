package agent_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/bidi"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/recording"
)

// A client's BiDi connection goes through service and agent to the browser, has
// the events it asked for and not those of the lab's own recording.
func TestBiDiThroughTheService(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(`<!doctype html><title>Quay</title><script>console.warn("low tide")</script>`))
	}))
	t.Cleanup(site.Close)
	for name, f := range map[string]engine.Family{"chromium": chromium.Family{}, "firefox": gecko.Family{}} {
		t.Run(name, func(t *testing.T) {
			conformance.Browser(t, f)
			o := opened(t, t.TempDir(), "127.0.0.1:0")
			o.work(f, "quay", 1)
			r := o.runner("build", api.Runner)
			a := r.do("POST", "/session", `{"capabilities":{"alwaysMatch":{"browserName":"`+name+
				`","webSocketUrl":true,"pane:options":{"test":"Tides","record":{"network":"always","commands":"always"}}}}}`)
			require.Equal(t, 200, a.status, "%s", a.value)
			var v struct {
				SessionID    string
				Capabilities struct{ WebSocketURL string }
			}
			require.NoError(t, json.Unmarshal(a.value, &v))
			address := v.Capabilities.WebSocketURL
			require.True(t, strings.HasPrefix(address, "ws://"+o.address+"/"), address)

			_, err := bidi.Dial(t.Context(), address+"x", nil)
			assert.Error(t, err, "another key opens nothing")
			c, err := bidi.Dial(t.Context(), address, nil)
			require.NoError(t, err)
			defer c.Close()
			said, other := make(chan string, 10), make(chan string, 100)
			c.On("log.entryAdded", func(e bidi.Event) {
				var x struct{ Text string }
				_ = json.Unmarshal(e.Params, &x)
				said <- x.Text
			})
			for _, method := range recording.NetworkEvents {
				c.On(method, func(e bidi.Event) { other <- e.Method })
			}
			require.NoError(t, c.Subscribe(t.Context(), "log.entryAdded"))
			contexts, err := c.TopContexts(t.Context())
			require.NoError(t, err)
			require.Len(t, contexts, 1)
			require.NoError(t, c.Send(t.Context(), "browsingContext.navigate", map[string]any{"context": contexts[0],
				"url": site.URL, "wait": "complete"}, nil))
			assert.Equal(t, "low tide", <-said)
			assert.JSONEq(t, `"Quay"`, string(r.do("GET", "/session/"+v.SessionID+"/title", "").value), "both ways lead to one session")
			assert.Empty(t, other, "what the lab records is not the client's")

			if name == "firefox" {
				err := c.Send(t.Context(), "browsingContext.getTree", map[string]any{"moz:scope": "chrome"}, nil)
				assert.Error(t, err, "a client has the rights of pages, not of the browser on its agent")
			}

			ended := make(chan error, 1)
			go func() { // a command that fails when the connection does
				for {
					if _, err := c.TopContexts(t.Context()); err != nil {
						ended <- err
						return
					}
				}
			}()
			r.do("DELETE", "/session/"+v.SessionID, "")
			select {
			case <-ended:
			case <-time.After(20 * time.Second):
				t.Fatal("the connection outlives its session")
			}
			_, err = bidi.Dial(t.Context(), address, nil)
			assert.Error(t, err, "an address is good for one session")
			_, har, err := o.svc.OpenFile(t.Context(), attempt.Of(o.over(v.SessionID).ID), recording.NetworkFile)
			require.NoError(t, err)
			har.Close()
		})
	}
}

func TestBiDiThatWasNotAskedFor(t *testing.T) {
	f := chromium.Family{}
	conformance.Browser(t, f)
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(f, "quay", 1)
	r := o.runner("build", api.Runner)
	a := r.do("POST", "/session", `{"capabilities":{"alwaysMatch":{"browserName":"chromium","pane:options":{"test":"Tides",
"record":{"console":"always"}}}}}`)
	require.Equal(t, 200, a.status, "%s", a.value)
	assert.NotContains(t, string(a.value), "webSocketUrl", "the lab's own connection is not the client's")
}
