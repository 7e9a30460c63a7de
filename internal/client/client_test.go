package client

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
)

// answers starts a service that answers as it is told, and keeps what it was asked.
func answers(t *testing.T, h http.HandlerFunc) *Client {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return &Client{Base: s.URL, Token: "secret", HTTP: s.Client()}
}

func TestAnswersBecomeValuesAndErrors(t *testing.T) {
	for _, c := range []struct {
		name, body string
		status     int
		says       string
		refused    bool
	}{
		{"success", `{"number": 7}`, 200, "", false},
		{"no content", ``, 204, "", false},
		{"a problem", `{"detail": "run 7 has ended", "problems": [{"file": "a.yaml", "line": 2, "column": 1, "message": "wet"}]}`, 409,
			"run 7 has ended\na.yaml:2:1: wet", true},
		{"another server", `<h1>Bad gateway</h1>`, 502, "POST /runs: status 502: <h1>Bad gateway</h1>", false},
		{"something else", `<h1>`, 200, "answered something else than expected", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			cl := answers(t, func(w http.ResponseWriter, r *http.Request) {
				raw, _ := io.ReadAll(r.Body)
				assert.Equal(t, []string{"POST", "/api/v1/runs", "Bearer secret", "application/json", `{"again":true}`},
					[]string{r.Method, r.URL.Path, r.Header.Get("Authorization"), r.Header.Get("Content-Type"), string(raw)})
				w.WriteHeader(c.status)
				_, _ = io.WriteString(w, c.body)
			})
			var out struct{ Number int }
			err := cl.Call(t.Context(), "POST", "/runs", map[string]bool{"again": true}, &out)
			assert.Equal(t, c.refused, Refused(err))
			if c.says != "" {
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.status == 200, out.Number == 7)
		})
	}
}

func TestNobodyThere(t *testing.T) {
	s := httptest.NewServer(nil)
	c := &Client{Base: s.URL}
	s.Close()
	var away *Unreachable
	require.ErrorAs(t, c.Get(t.Context(), "/runs", nil), &away)
	assert.Contains(t, away.Error(), "no service answers at "+s.URL)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	assert.ErrorIs(t, c.Get(stopped, "/runs", nil), context.Canceled)
}

// A run is followed over a lost connection: it is read again, and no event is
// needed twice.
func TestARunIsFollowedOverALostConnection(t *testing.T) {
	events, reads := 0, 0
	c := answers(t, func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, "/events") {
			reads++
			_ = json.NewEncoder(w).Encode(api.Run{RunSummary: api.RunSummary{Number: reads}})
			return
		}
		events++
		_, _ = io.WriteString(w, "retry: 1000\n\nevent: run\ndata: {\"type\":\"run\"}\n\n: still here\n\n")
		if events == 1 {
			_, _ = io.WriteString(w, "data: {\"type\":\"wall\",\"whole\":true}\n\n")
		}
	})
	var fresh []int
	got := 0
	err := c.Follow(t.Context(), 7, func(r api.Run) bool { fresh = append(fresh, r.Number); return false },
		func(e api.Event) bool { got++; return got == 3 })
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3}, fresh, "as it stood, after an event that holds not everything, and after the lost connection")
	gone := answers(t, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, `{"detail":"there is no run 7"}`, 404) })
	err = gone.Follow(t.Context(), 7, nil, nil)
	require.ErrorContains(t, err, "there is no run 7")
}

func TestABundleIsSentOnce(t *testing.T) {
	have := map[string]string{}
	c := answers(t, func(w http.ResponseWriter, r *http.Request) {
		hash := strings.TrimPrefix(r.URL.Path, "/api/v1/bundles/")
		switch {
		case r.Method == "PUT":
			raw, _ := io.ReadAll(r.Body)
			have[hash] = string(raw)
			w.WriteHeader(204)
		case have[hash] == "":
			w.WriteHeader(404)
		}
	})
	for _, want := range []bool{true, false} {
		sent, err := c.SendBundle(t.Context(), "0a", []byte("files"))
		require.NoError(t, err)
		assert.Equal(t, want, sent)
	}
	assert.Equal(t, map[string]string{"0a": "files"}, have)
}
