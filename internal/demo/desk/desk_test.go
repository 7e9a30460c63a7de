package desk

import (
	"bytes"
	"io"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// guest is somebody without script.
type guest struct {
	t    *testing.T
	base string
	http *http.Client
}

func visit(t *testing.T) *guest {
	s := httptest.NewServer(New(30 * time.Millisecond))
	t.Cleanup(s.Close)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &guest{t, s.URL, &http.Client{Jar: jar}}
}

func (g *guest) read(resp *http.Response, err error) (int, string) {
	g.t.Helper()
	require.NoError(g.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(g.t, err)
	return resp.StatusCode, string(raw)
}

func (g *guest) get(path string) (int, string) { return g.read(g.http.Get(g.base + path)) }

func (g *guest) post(path string, fields ...string) (int, string) {
	v := url.Values{}
	for i := 0; i < len(fields); i += 2 {
		v.Set(fields[i], fields[i+1])
	}
	return g.read(g.http.PostForm(g.base+path, v))
}

func TestEveryPageOpens(t *testing.T) {
	g := visit(t)
	for path, want := range map[string]string{"/": "Berth map", "/tides": "gate", "/fees": "Work it out",
		"/holds": "You hold no berth", "/insurance": "Certificate",
		"/rules": "Accept the rules", "/sign-in": "Password", "/berths/b3": "Hold berth B3",
		"/static/desk.css": "--ink", "/?q=c5": "Showing c5"} {
		status, body := g.get(path)
		assert.Equal(t, 200, status, path)
		assert.Contains(t, body, want, path)
		assert.NotContains(t, body, "<no value>", path)
	}
	status, body := g.get("/berths/Z9")
	assert.Equal(t, 404, status)
	assert.Contains(t, body, "There is no berth Z9")
}

func TestTextIsEscaped(t *testing.T) {
	_, body := visit(t).get("/?q=" + url.QueryEscape("<script>alert(1)</script>"))
	assert.NotContains(t, body, "<script>alert(1)")
}

func TestHolding(t *testing.T) {
	g := visit(t)
	for _, tc := range []struct{ boat, length, want string }{
		{"", "7", "give the boat&#39;s name"}, {"Osprey", "long", "whole metres"}, {"Osprey", "99", "takes boats up to"},
		{"Osprey", "-1", "whole metres"},
	} {
		status, body := g.post("/berths/A1/hold", "boat", tc.boat, "length", tc.length)
		assert.Equal(t, 422, status, tc.want)
		assert.Contains(t, body, tc.want)
		assert.Contains(t, body, `value="`+tc.length+`"`, "what was typed is still there")
	}
	status, body := g.post("/berths/A1/hold", "boat", "Osprey", "length", "7", "nights", "3", "arrival", "2026-06-01")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "SH-0001")
	_, body = g.get("/holds")
	assert.Contains(t, body, "SH-0001")
	assert.Contains(t, body, "Osprey")
	_, body = visit(t).get("/holds")
	assert.NotContains(t, body, "Osprey", "every browser has a harbour of its own")
	_, body = g.post("/holds/SH-0001/release")
	assert.Contains(t, body, "You hold no berth")
	status, _ = g.post("/berths/Z9/hold")
	assert.Equal(t, 404, status)
}

func TestFees(t *testing.T) {
	for _, tc := range []struct {
		length, nights int
		want           string
	}{{10, 1, "32.00"}, {10, 6, "192.00"}, {10, 7, "201.60"}, {0, 7, "0.00"}, {7, 1, "22.40"}} {
		assert.Equal(t, tc.want, fee(tc.length, tc.nights))
	}
	_, body := visit(t).get("/fees?length=10&nights=7")
	assert.Contains(t, body, "201.60", "it works without script")
}

func TestSignIn(t *testing.T) {
	g := visit(t)
	status, body := g.post("/sign-in", "name", DemoName, "password", "driftwood")
	assert.Equal(t, 401, status)
	assert.Contains(t, body, "Name or password is wrong")
	_, body = g.post("/sign-in", "name", DemoName, "password", DemoPassword)
	assert.Contains(t, body, "Signed in as "+DemoName)
}

func TestInsuranceAndRules(t *testing.T) {
	g := visit(t)
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	part, err := w.CreateFormFile("certificate", "certificate.txt")
	require.NoError(t, err)
	_, _ = part.Write([]byte("covered"))
	require.NoError(t, w.Close())
	_, body := g.read(g.http.Post(g.base+"/insurance", w.FormDataContentType(), &form))
	assert.Contains(t, body, "Received certificate.txt, 7 bytes")
	status, _ := g.read(g.http.Post(g.base+"/insurance", "text/plain", strings.NewReader("x")))
	assert.Equal(t, 422, status)
	_, body = g.post("/rules")
	assert.Contains(t, body, "You have accepted the rules")
}

func TestEveryFourthAnswerIsLate(t *testing.T) {
	s := httptest.NewServer(New(time.Hour))
	defer s.Close()
	g := &guest{t, s.URL, &http.Client{Timeout: 500 * time.Millisecond}}
	for range 3 {
		_, body := g.get("/availability/A4")
		assert.JSONEq(t, `{"berth":"A4","free":true,"nights":14}`, body)
	}
	_, err := g.http.Get(s.URL + "/availability/A4")
	assert.Error(t, err)
}
