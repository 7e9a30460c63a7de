package recording

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/recording/hartest"
)

// anyText is text as pages and servers send it, with what breaks careless
// writers.
func anyText(t *rapid.T, label string) string {
	return rapid.OneOf(rapid.SampledFrom([]string{"", "x", "\x00", "</script>", "a\r\nb: c", "\"", "ø⚓", "%zz", strings.Repeat("9",
		300)}), rapid.String()).Draw(t, label)
}

// anyEvent is a network event as some browser might send it, in or out of order,
// with parts missing.
func anyEvent(t *rapid.T) (method string, params json.RawMessage) {
	method = rapid.SampledFrom(append(slices.Clone(NetworkEvents), "network.responseStarted", "network.authRequired",
		"tide.turned")).Draw(t, "method")
	headers := []map[string]any{}
	for range rapid.IntRange(0, 3).Draw(t, "headers") {
		headers = append(headers, map[string]any{"name": rapid.SampledFrom([]string{"Cookie", "Set-Cookie", "Location", "Content-Type",
			"Authorization", "X-Berth"}).Draw(t, "name"),
			"value": map[string]any{"type": "string", "value": anyText(t, "value")}})
	}
	request := map[string]any{"request": rapid.SampledFrom([]string{"r1", "r2", "r3", ""}).Draw(t, "request"),
		"url": rapid.SampledFrom([]string{"http://desk.example/holds?boat=a&b", "data:text/plain," + strings.Repeat("x", 500),
			"about:blank", "://", ""}).Draw(t, "url"),
		"method": rapid.SampledFrom([]string{"GET", "POST", ""}).Draw(t, "verb"), "headers": headers}
	if rapid.Bool().Draw(t, "sized") {
		request["headersSize"], request["bodySize"] = rapid.IntRange(-1, 1<<30).Draw(t, "headersSize"), nil
	}
	if rapid.Bool().Draw(t, "timed") {
		timings := map[string]float64{}
		for _, k := range []string{"dnsStart", "dnsEnd", "connectStart", "connectEnd", "tlsStart", "requestStart",
			"responseStart", "responseEnd"} {
			timings[k] = rapid.Float64Range(-10, 1000).Draw(t, k)
		}
		request["timings"] = timings
	}
	x := map[string]any{"redirectCount": rapid.IntRange(0, 2).Draw(t, "redirects"), "timestamp": float64(began.UnixMilli()) +
		rapid.Float64Range(-1000, 100_000).Draw(t, "at"), "request": request}
	if rapid.Bool().Draw(t, "answered") {
		x["response"] = map[string]any{"status": rapid.IntRange(0, 999).Draw(t, "status"), "statusText": anyText(t, "statusText"),
			"protocol": rapid.SampledFrom([]string{"h2", "h3", "http/1.1", "", "quay/9"}).Draw(t, "protocol"),
			"headers":  headers, "mimeType": rapid.SampledFrom([]string{"text/html", "", "image/png"}).Draw(t, "media"),
			"content": map[string]any{"size": rapid.IntRange(0, 1<<40).Draw(t, "size")}}
	}
	if method == "network.fetchError" {
		x["errorText"] = anyText(t, "error")
	}
	raw, err := json.Marshal(x)
	require.NoError(t, err)
	return method, raw
}

// Whatever events a browser sends, the archive is valid by the published schema,
// in order, says no negative time, and shows no credential.
func TestAnyTrafficMakesAValidArchive(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := NewNetwork(began, "firefox", "153.7")
		for range rapid.IntRange(0, 12).Draw(t, "events") {
			done, err := n.Event(anyEvent(t))
			require.NoError(t, err)
			if done != nil {
				n.Sent(done, anyText(t, "sent"), rapid.Bool().Draw(t, "binary"))
				for range 2 { // a body comes once
					n.Body(done, anyText(t, "body"), rapid.Bool().Draw(t, "base64"), rapid.SampledFrom([]string{"", "not kept: image/png"}).Draw(t, "why"))
				}
			}
		}
		har := n.HAR("1")
		for i, e := range har.Log.Entries {
			require.GreaterOrEqual(t, e.Time, 0.0)
			parts := e.Timings.Send + e.Timings.Wait + e.Timings.Receive + max(0, e.Timings.DNS) + max(0, e.Timings.Connect)
			require.InDelta(t, e.Time, parts, 0.001, "the parts add up to the whole")
			if i > 0 {
				require.GreaterOrEqual(t, e.AtMS+0.001, har.Log.Entries[i-1].AtMS)
			}
			for _, h := range slices.Concat(e.Request.Headers, e.Response.Headers, e.Request.Cookies, e.Response.Cookies) {
				if strings.EqualFold(h.Name, "cookie") || strings.EqualFold(h.Name, "set-cookie") || strings.EqualFold(h.Name, "authorization") {
					require.Equal(t, Masked, h.Value)
				}
			}
		}
		raw, err := json.Marshal(har)
		require.NoError(t, err)
		require.NoError(t, hartest.Check(raw), "%s", raw)
	})
}

func TestBodiesHaveALimitTogether(t *testing.T) {
	n := NewNetwork(began, "firefox", "153.7")
	body := strings.Repeat("x", MaxBody)
	kept := 0
	for i := range MaxBodies/MaxBody + 3 {
		done, err := n.Event("network.responseCompleted", event(fmt.Sprint("r", i), float64(i), answered))
		require.NoError(t, err)
		n.Body(done, body, false, "")
	}
	for _, e := range n.HAR("1").Log.Entries {
		if e.Response.Content.Text != "" {
			kept++
		} else {
			require.Contains(t, e.Response.Content.Comment, "too long to keep")
		}
	}
	require.Equal(t, MaxBodies/MaxBody, kept)
}
