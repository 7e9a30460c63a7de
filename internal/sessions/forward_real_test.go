package sessions

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/webdriver"
)

// What a driver answers reaches the client as it is: status, body and type, for
// commands that work, that fail, that are wrong and that nobody knows.
func TestAnswersAreTheDriversOwn(t *testing.T) {
	site := desk(t)
	for _, f := range []engine.Family{chromium.Family{}, gecko.Family{}, webkit.Family{}} {
		t.Run(f.Name(), func(t *testing.T) {
			// Not pageLoadStrategy: on a busy machine WebKit's driver loses sight of an eager page and never answers.
			s := somebodyElses(t, f, Request{Asked: webdriver.Capabilities{"timeouts": map[string]any{"pageLoad": 20_000, "script": 12_345}}})
			assert.Nil(t, s.BiDi, "nothing asks for a connection of the lab's own")
			assert.Subset(t, s.Given()["timeouts"], map[string]any{"pageLoad": 20_000.0, "script": 12_345.0})
			assert.Equal(t, map[string]any(s.Capabilities), map[string]any(s.Given()))
			directly := &http.Client{Transport: &http.Transport{DialContext: s.inst.Dial}}
			ask := func(method, path, body string) (int, string, string) {
				req, err := http.NewRequestWithContext(t.Context(), method, s.inst.URL+"/session/"+s.ID+path, strings.NewReader(body))
				require.NoError(t, err)
				if body != "" {
					req.Header.Set("Content-Type", "application/json; charset=utf-8")
				}
				resp, err := directly.Do(req)
				require.NoError(t, err)
				defer resp.Body.Close()
				raw, err := io.ReadAll(resp.Body)
				require.NoError(t, err)
				return resp.StatusCode, resp.Header.Get("Content-Type"), string(raw)
			}
			for _, c := range [][3]string{
				{"POST", "/url", `{"url":"` + site.URL + `"}`}, {"GET", "/url", ""}, {"GET", "/window/handles", ""}, {"GET", "/timeouts", ""},
				{"POST", "/timeouts", `{"implicit":-1}`},
				{"POST", "/element", `{"using":"css selector","value":"#none"}`}, {"POST", "/element", `{"using":"nonsense","value":"x"}`},
				{"POST", "/element", `{}`}, {"POST", "/element", `{`},
				{"POST", "/element", ``}, {"POST", "/elements", `{"using":"css selector","value":"#none"}`}, {"GET", "/element/none/text",
					""}, {"GET", "/alert/text", ""},
				{"POST", "/execute/sync", `{"script":"return {a: [1, null, 'ø']}","args":[]}`}, {"POST", "/execute/sync",
					`{"script":"throw new Error('x')","args":[]}`},
				{"GET", "/cookie/none", ""}, {"POST", "/window", `{"handle":"none"}`}, {"POST", "/acme/thing", `{}`}, {"PUT", "/url", `{}`},
				{"POST", "/frame", `{"id":99}`},
				{"GET", "/element/a%2Fb/attribute/x%20y", ""},
			} {
				status, media, body := ask(c[0], c[1], c[2])
				a, err := s.Forward(t.Context(), c[0], c[1], []byte(c[2]))
				require.NoError(t, err, "%v", c)
				assert.Equal(t, status, a.Status, "%v: %s", c, a.Body)
				assert.Equal(t, media, a.Media, "%v", c)
				assert.Equal(t, plain(body), plain(string(a.Body)), "%v", c)
			}
		})
	}
}

// plain leaves out what differs between two answers to the same command: where
// in its own program a driver found the fault.
func plain(body string) string {
	before, _, _ := strings.Cut(body, `"stacktrace"`)
	return before
}
