package sessions

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/recording"
)

func TestAProxySeesWhatItCan(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "text/plain")
		http.SetCookie(w, &http.Cookie{Name: "berth", Value: "A1"})
		if r.URL.Path == "/huge" {
			_, _ = io.WriteString(w, strings.Repeat("x", recording.MaxBody+10))
			return
		}
		_, _ = io.WriteString(w, "heard "+string(body)+r.Header.Get("X-Forwarded-For"))
	}))
	defer plain.Close()
	secret := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "private") }))
	defer secret.Close()
	p, err := startProxy()
	require.NoError(t, err)
	defer p.close()
	through, err := url.Parse("http://" + p.address())
	require.NoError(t, err)
	tr := secret.Client().Transport.(*http.Transport).Clone()
	tr.Proxy = http.ProxyURL(through)
	c := &http.Client{Transport: tr}
	say := func(address string) string {
		resp, err := c.Post(address, "text/plain", strings.NewReader("ahoy"))
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(raw)
	}
	assert.Equal(t, "heard ahoy", say(plain.URL+"/before"), "nothing is recorded yet, and nothing is changed")
	n := recording.NewNetwork(time.Now(), "webkitgtk", "2.50")
	p.to.Store(n)
	assert.Equal(t, "heard ahoy", say(plain.URL+"/hold?boat=Osprey"))
	assert.Len(t, say(plain.URL+"/huge"), recording.MaxBody+10, "what is too long to keep still arrives whole")
	assert.Equal(t, "private", say(secret.URL))
	_, err = c.Get("http://127.0.0.1:1/")
	assert.Error(t, err, "a site that cannot be reached is not answered for")
	tr.CloseIdleConnections()
	direct, err := http.Get("http://" + p.address() + "/")
	require.NoError(t, err)
	direct.Body.Close()
	assert.Equal(t, http.StatusBadRequest, direct.StatusCode)

	require.Eventually(t, func() bool { return len(n.HAR("1").Log.Entries) >= 4 }, 5*time.Second, 5*time.Millisecond)
	e := n.HAR("1").Log.Entries
	assert.Equal(t, []any{"POST", plain.URL + "/hold?boat=Osprey", 200, "heard ahoy", "ahoy"}, []any{e[0].Request.Method, e[0].Request.URL,
		e[0].Response.Status, e[0].Response.Content.Text, e[0].Request.Body.Text})
	assert.Equal(t, []recording.HARPair{{Name: "berth", Value: recording.Masked}}, e[0].Response.Cookies)
	assert.Equal(t, []any{"too long to keep", recording.MaxBody + 10}, []any{e[1].Response.Content.Comment, e[1].Response.Content.Size})
	assert.Equal(t, []string{"CONNECT", secret.URL + "/", ""}, []string{e[2].Request.Method, e[2].Request.URL, e[2].Response.Content.Text})
	assert.Contains(t, e[3].Error, "refused")
}
