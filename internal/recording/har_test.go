package recording

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/recording/hartest"
)

var began = time.Date(2026, 11, 23, 6, 30, 0, 0, time.UTC)

// event is a network event at some milliseconds on the session's clock.
func event(id string, at float64, more string) json.RawMessage {
	return json.RawMessage(fmt.Sprintf(`{"context":"c","redirectCount":0,
"timestamp":%f,"request":{"request":%q,"url":"http://desk.example/holds?boat=Grey%%20Osprey&n=1","method":"POST",
		"headers":[{"name":"Cookie","value":{"type":"string","value":"berth=A1; who=tern"}},{"name":"Content-Type","value":{"type":"string",
"value":"application/x-www-form-urlencoded"}},
		{"name":"Authorization","value":{"type":"string","value":"Bearer harbour"}}],"cookies":[],"headersSize":120,"bodySize":null,
		"timings":{"timeOrigin":0,"requestTime":0,"dnsStart":1,"dnsEnd":3,"connectStart":3,"connectEnd":9,"tlsStart":5,"requestStart":9,
"responseStart":29,"responseEnd":31}}%s}`,
		float64(began.UnixMilli())+at, id, more))
}

const answered = `,"response":{"url":"x","protocol":"h2","status":302,"statusText":"Found",
"fromCache":false,"headers":[{"name":"Location","value":{"type":"string","value":"/holds/7"}},
	{"name":"Set-Cookie","value":{"type":"string","value":"hold=7; Path=/"}}],"mimeType":"text/html","bytesReceived":900,"headersSize":80,
"bodySize":820,"content":{"size":820}}`

func TestAnExchangeBecomesAnEntry(t *testing.T) {
	n := NewNetwork(began, "firefox", "153.7")
	_, err := n.Event("network.beforeRequestSent", event("r1", 100, ""))
	require.NoError(t, err)
	done, err := n.Event("network.responseCompleted", event("r1", 140, answered))
	require.NoError(t, err)
	require.NotNil(t, done)
	assert.Equal(t, []any{"POST", "text/html", 820}, []any{done.Method, done.Media, done.Size})
	n.Sent(done, "boat=Grey+Osprey", false)
	n.Body(done, "<p>Held</p>", false, "")
	_, err = n.Event("network.beforeRequestSent", event("r2", 50, ""))
	require.NoError(t, err)
	_, err = n.Event("network.fetchError", event("r2", 70, `,"errorText":"connection refused"`))
	require.NoError(t, err)
	_, err = n.Event("network.beforeRequestSent", event("r3", 200, ""))
	require.NoError(t, err)

	har := n.HAR("1")
	require.Len(t, har.Log.Entries, 3)
	refused, e, open := har.Log.Entries[0], har.Log.Entries[1], har.Log.Entries[2]
	assert.Equal(t, []any{"connection refused", 0, 50.0, 20.0}, []any{refused.Error, refused.Response.Status, refused.AtMS, refused.Time})
	assert.Equal(t, "no answer had come when the recording ended", open.Error)
	assert.Equal(t, []any{100.0, 40.0, 302, "/holds/7", "HTTP/2", "2026-11-23T06:30:00.100Z"}, []any{e.AtMS, e.Time, e.Response.Status,
		e.Response.RedirectURL, e.Response.Version, e.Started})
	assert.Equal(t, HARTimings{Blocked: -1, DNS: 2, Connect: 6, SSL: 4, Wait: 30, Receive: 2}, e.Timings)
	assert.Equal(t, []HARPair{{"boat", "Grey Osprey"}, {"n", "1"}}, e.Request.Query)
	assert.Equal(t, []HARPair{{"berth", Masked}, {"who", Masked}}, e.Request.Cookies)
	assert.Equal(t, []HARPair{{"hold", Masked}}, e.Response.Cookies)
	assert.Equal(t, "boat=Grey+Osprey", e.Request.Body.Text)
	assert.Equal(t, "<p>Held</p>", e.Response.Content.Text)
	raw, err := json.Marshal(har)
	require.NoError(t, err)
	for _, private := range []string{"tern", "Bearer harbour", "hold=7"} {
		assert.NotContains(t, string(raw), private, "credentials are not kept")
	}
	assert.NoError(t, hartest.Check(raw))
	assert.Error(t, hartest.Check([]byte(`{"log":{"version":"1.2","entries":[{}]}}`)), "the check can fail")
}

func TestBodiesThatAreHugeOrBinary(t *testing.T) {
	n := NewNetwork(began, "chromium", "156")
	for i, body := range []string{strings.Repeat("x", MaxBody+1), "//8=", "ok"} {
		id := fmt.Sprint("r", i)
		_, err := n.Event("network.beforeRequestSent", event(id, float64(i), ""))
		require.NoError(t, err)
		done, err := n.Event("network.responseCompleted", event(id, float64(i)+1, answered))
		require.NoError(t, err)
		n.Sent(done, "\xff\xfe", true)
		n.Body(done, body, body == "//8=", "")
		n.Body(done, "again", false, "") // a second one changes nothing
	}
	har := n.HAR("1")
	huge, binary, plain := har.Log.Entries[0].Response.Content, har.Log.Entries[1].Response.Content, har.Log.Entries[2].Response.Content
	assert.Equal(t, HARContent{Size: 820, Media: "text/html", Comment: "1048577 bytes, too long to keep"}, huge)
	assert.Equal(t, []string{"//8=", "base64"}, []string{binary.Text, binary.Encoding})
	assert.Equal(t, "ok", plain.Text)
	assert.Equal(t, "2 bytes, not kept", har.Log.Entries[0].Request.Body.Comment)
	raw, err := json.Marshal(har)
	require.NoError(t, err)
	assert.NoError(t, hartest.Check(raw))
}

func TestAnArchiveHasAnEnd(t *testing.T) {
	n := NewNetwork(began, "chromium", "156")
	for i := range MaxEntries + 3 {
		_, err := n.Event("network.beforeRequestSent", event(fmt.Sprint(i), float64(i), ""))
		require.NoError(t, err)
	}
	har := n.HAR("1")
	assert.Len(t, har.Log.Entries, MaxEntries)
	assert.Contains(t, har.Log.Comment, "3 further requests")
	_, err := n.Event("network.beforeRequestSent", json.RawMessage(`[`))
	assert.Error(t, err)
}

func TestWhichBodiesAreKept(t *testing.T) {
	for media, keeps := range map[string]bool{"text/html; charset=utf-8": true, "application/json": true,
		"application/problem+json": true, "image/svg+xml": false,
		"text/css": false, "application/javascript": false, "text/javascript": false, "image/png": false, "font/woff2": false, "": false} {
		assert.Equal(t, keeps, KeepsBody(media), media)
	}
}
