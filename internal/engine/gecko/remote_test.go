package gecko

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// browser is the browser's side of its remote port, answering by command name.
type browser struct {
	answers map[string]string // JSON of [error, result]
	asked   chan string       // "name parameters"
	conn    chan net.Conn
}

func newBrowser(t *testing.T) (*browser, *httptest.Server) {
	b := &browser{answers: map[string]string{"WebDriver:NewSession": `null,{"sessionId":"s","capabilities":{"browserName":"firefox"}}`},
		asked: make(chan string, 100), conn: make(chan net.Conn, 1)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		b.conn <- c
		_, _ = io.WriteString(c, `50:{"applicationType":"gecko","marionetteProtocol":3}`)
		r := bufio.NewReader(c)
		for {
			raw, err := readMessage(r)
			if err != nil {
				return
			}
			var parts [4]json.RawMessage
			_ = json.Unmarshal(raw, &parts)
			var name string
			_ = json.Unmarshal(parts[2], &name)
			b.asked <- name + " " + string(parts[3])
			answer, ok := b.answers[name]
			if !ok {
				answer = `null,{"value":null}`
			}
			reply := fmt.Sprintf("[1,%s,%s]", parts[1], answer)
			_, _ = fmt.Fprintf(c, "%d:%s", len(reply), reply)
		}
	}()
	m, err := dialMarionette(t.Context(), (&net.Dialer{}).DialContext, l.Addr().String())
	require.NoError(t, err)
	t.Cleanup(m.Close)
	s := httptest.NewServer(newRemoteEnd(m, "153.7.0"))
	t.Cleanup(s.Close)
	return b, s
}

func ask(t *testing.T, method, address, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(body))
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, strings.TrimSpace(string(raw))
}

func open(t *testing.T) (*browser, string) {
	t.Helper()
	b, s := newBrowser(t)
	status, body := ask(t, "POST", s.URL+"/session",
		`{"capabilities":{"alwaysMatch":{"webSocketUrl":true},"firstMatch":[{"pageLoadStrategy":"eager"}]}}`)
	require.Equal(t, 200, status, body)
	assert.JSONEq(t, `{"pageLoadStrategy":"eager","webSocketUrl":true}`, strings.TrimPrefix(<-b.asked, "WebDriver:NewSession "))
	return b, s.URL + "/session/s"
}

// Every endpoint reaches the browser under its own name, with path variables
// and body as parameters.
func TestEveryEndpoint(t *testing.T) {
	b, base := open(t)
	places := map[string]string{"{element}": "e1", "{shadowRoot}": "r1", "{name}": "n", "{propertyName}": "p",
		"{authenticatorId}": "a", "{credentialId}": "c"}
	fill := strings.NewReplacer(slices.Concat(pairs(places)...)...)
	for _, c := range commands {
		method, path, _ := strings.Cut(c.pattern, " ")
		body := ""
		if method == "POST" {
			body = `{"given":1,"using":"css selector","value":"p","id":null,"script":"","args":[]}`
		}
		status, got := ask(t, method, base+fill.Replace(path), body)
		assert.Equal(t, 200, status, c.pattern)
		if answers[c.name] == nil {
			assert.JSONEq(t, `{"value":null}`, got, c.pattern)
		}
		require.NotEmpty(t, b.asked, c.pattern)
		name, raw, _ := strings.Cut(<-b.asked, " ")
		assert.Equal(t, c.name, name, c.pattern)
		params := map[string]any{}
		require.NoError(t, json.Unmarshal([]byte(raw), &params))
		if inner, ok := params["credentials"].(map[string]any); ok {
			params["given"] = inner["given"]
		}
		for key, value := range places {
			if strings.Contains(path, key) {
				key = strings.Trim(key, "{}")
				if to, ok := c.rename[key]; ok {
					key = to
				}
				assert.Equal(t, value, params[key], c.pattern)
			}
		}
		assert.Equal(t, method == "POST", params["given"] != nil, c.pattern)
	}
}

func pairs(m map[string]string) (out [][]string) {
	for k, v := range m {
		out = append(out, []string{k, v})
	}
	return out
}

func TestAnswersAreUnwrapped(t *testing.T) {
	b, base := open(t)
	for answer, want := range map[string]string{
		`{"value":"T"}`: `"T"`, `{"value":{"a":1}}`: `{"a":1}`, `["w1","w2"]`: `["w1","w2"]`,
		`{"width":3,"height":4}`: `{"width":3,"height":4}`, `{"value":1,"other":2}`: `{"value":1,"other":2}`,
	} {
		b.answers["WebDriver:GetTitle"] = "null," + answer
		_, got := ask(t, "GET", base+"/title", "")
		assert.JSONEq(t, `{"value":`+want+`}`, got)
	}
}

func TestErrorsKeepTheirCode(t *testing.T) {
	b, base := open(t)
	b.answers["WebDriver:FindElement"] = `{"error":"no such element","message":"Unable","stacktrace":"x"},null`
	status, body := ask(t, "POST", base+"/element", `{"using":"css selector","value":"p"}`)
	assert.Equal(t, 404, status)
	assert.Contains(t, body, `"error":"no such element"`)
	for _, tc := range []struct {
		method, path, body, code string
		status                   int
	}{
		{"POST", base + "/element", `{`, "invalid argument", 400}, {"POST", base + "/element", `[]`, "invalid argument", 400},
		{"POST", base + "/element", `null`, "invalid argument", 400}, {"GET", strings.Replace(base, "/s", "/s", 1) +
			"/nothing", "", "unknown command", 404},
		{"GET", strings.TrimSuffix(base, "s") + "other/url", "", "invalid session id", 404},
		{"POST", strings.TrimSuffix(base, "/s"), `{"capabilities":{}}`, "session not created", 500},
	} {
		status, body := ask(t, tc.method, tc.path, tc.body)
		assert.Equal(t, tc.status, status, "%s %s", tc.path, body)
		assert.Contains(t, body, tc.code)
	}
}

func TestNamedCookie(t *testing.T) {
	b, base := open(t)
	b.answers["WebDriver:GetCookies"] = `null,[{"name":"tide","value":"high"}]`
	_, body := ask(t, "GET", base+"/cookie/tide", "")
	assert.JSONEq(t, `{"value":{"name":"tide","value":"high"}}`, body)
	status, body := ask(t, "GET", base+"/cookie/ebb", "")
	assert.Equal(t, 404, status)
	assert.Contains(t, body, "no such cookie")
}

func TestABrowserThatGoesIsALostSession(t *testing.T) {
	b, base := open(t)
	(<-b.conn).Close()
	status, body := ask(t, "GET", base+"/title", "")
	assert.Equal(t, 404, status)
	assert.Contains(t, body, "invalid session id")
}

func TestDeleteSession(t *testing.T) {
	_, base := open(t)
	status, _ := ask(t, "DELETE", base, "")
	assert.Equal(t, 200, status)
	status, _ = ask(t, "GET", base+"/title", "")
	assert.Equal(t, 404, status)
	_, body := ask(t, "GET", strings.TrimSuffix(base, "/session/s")+"/status", "")
	assert.Contains(t, body, `"ready":true`)
}

func TestMessagesThatLie(t *testing.T) {
	for _, raw := range []string{"", "x:{}", "-1:", "999999999999:{}", "5:{}"} {
		_, err := readMessage(bufio.NewReader(strings.NewReader(raw)))
		assert.Error(t, err, raw)
	}
}

func TestCapabilitiesAndMethodsByTheStandard(t *testing.T) {
	_, s := newBrowser(t)
	for body, want := range map[string]string{
		`{}`: "invalid argument", `{"capabilities":{"alwaysMatch":{"boat":1}}}`: "invalid argument",
		`{"capabilities":{"alwaysMatch":{"browserName":"webkitgtk"}}}`: "session not created",
		`{"capabilities":{"firstMatch":[{"browserVersion":"9"}]}}`:     "session not created",
		`{"capabilities":{"alwaysMatch":{"goog:loggingPrefs":{}}}}`:    "session not created",
	} {
		status, answer := ask(t, "POST", s.URL+"/session", body)
		assert.Contains(t, answer, `"error":"`+want+`"`, body)
		assert.Equal(t, map[string]int{"invalid argument": 400, "session not created": 500}[want], status)
	}
	status, answer := ask(t, "POST", s.URL+"/session",
		`{"capabilities":{"firstMatch":[{"browserName":"webkitgtk"},{"browserVersion":"153"}]}}`)
	assert.Equal(t, 200, status, answer)
	status, answer = ask(t, "POST", s.URL+"/session/s/title", `{}`)
	assert.Equal(t, 405, status)
	assert.Contains(t, answer, "unknown method")
	status, answer = ask(t, "GET", s.URL+"/session/s/harbour", ``)
	assert.Equal(t, 404, status)
	assert.Contains(t, answer, "unknown command")
}

func TestTheLastWindowEndsTheSession(t *testing.T) {
	b, base := open(t)
	b.answers["WebDriver:CloseWindow"] = `null,[]`
	status, answer := ask(t, "DELETE", base+"/window", ``)
	assert.Equal(t, 200, status, answer)
	_, answer = ask(t, "GET", base+"/title", ``)
	assert.Contains(t, answer, "invalid session id")
}
