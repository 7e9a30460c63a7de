package tracker

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDefectsAreTakenAndShown(t *testing.T) {
	tr, err := New("http://tracker.saltmarsh.example")
	require.NoError(t, err)
	ask := func(method, path, body string, header ...string) *httptest.ResponseRecorder {
		r, w := httptest.NewRequest(method, path, strings.NewReader(body)), httptest.NewRecorder()
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		tr.ServeHTTP(w, r)
		return w
	}
	assert.Contains(t, ask("GET", "/", "").Body.String(), "Nothing has been filed yet")
	form := ask("GET", Path, "")
	assert.Equal(t, "application/schema+json", form.Header().Get("Content-Type"))
	assert.Equal(t, "<"+Path+`>; rel="search"`, form.Header().Get("Link"))
	for body, want := range map[string]string{"{": "no JSON object", "[]": "no JSON object", "{}": "missing propert",
		`{"title": "Too <b>", "severity": "dreadful", "details": "x"}`: "severity"} {
		w := ask("POST", Path, body)
		assert.Equal(t, http.StatusUnprocessableEntity, w.Code, body)
		assert.Contains(t, w.Body.String(), want, body)
	}
	const good = `{"title": "Tides <b> are late", "severity": "a nuisance", "details": "since <i>noon", "pictures": ["cG5n\"><script>"]}`
	w := ask("POST", Path, good, "Idempotency-Key", `"one"`)
	require.Equal(t, http.StatusCreated, w.Code, w.Body)
	assert.Equal(t, Path+"/HARBOUR-1", w.Header().Get("Location"))
	assert.Contains(t, ask("POST", Path, good, "Idempotency-Key", `"one"`).Body.String(), `"HARBOUR-1"`, "the same is filed once")
	assert.Contains(t, ask("POST", Path, good).Body.String(), `"HARBOUR-2"`)
	assert.Contains(t, ask("POST", Path, good).Body.String(), `"HARBOUR-3"`, "what has no key is never the same")

	page := ask("GET", "/HARBOUR-1", "")
	assert.Contains(t, page.Body.String(), "Tides &lt;b&gt; are late")
	assert.Contains(t, page.Body.String(), "since &lt;i&gt;noon")
	assert.NotContains(t, page.Body.String(), "<script>")
	assert.Contains(t, page.Body.String(), "A stand-in for a tracker")
	assert.Contains(t, page.Header().Get("Content-Security-Policy"), "default-src 'none'")
	var found []Defect
	require.NoError(t, json.Unmarshal(ask("GET", Path+"?text=tides+are+late", "").Body.Bytes(), &found))
	assert.Len(t, found, 3)
	require.NoError(t, json.Unmarshal(ask("GET", Path+"?text=a+mooring", "").Body.Bytes(), &found))
	assert.Empty(t, found)

	assert.Equal(t, http.StatusForbidden, ask("POST", "/set/HARBOUR-1", "", "Sec-Fetch-Site", "cross-site").Code)
	assert.Equal(t, http.StatusSeeOther, ask("POST", "/set/HARBOUR-1", "").Code)
	assert.Contains(t, ask("GET", Path+"/HARBOUR-1", "").Body.String(), `"closed"`)
	assert.Equal(t, http.StatusOK, ask("POST", Path+"/HARBOUR-1", `{"event": "back", "words": "#9 <u>"}`).Code)
	assert.Contains(t, ask("GET", Path+"/HARBOUR-1", "").Body.String(), `"open"`, "what is back is open again")
	assert.Contains(t, ask("GET", "/HARBOUR-1", "").Body.String(), "It is back. #9 &lt;u&gt;")
	assert.Contains(t, ask("GET", "/", "").Body.String(), "HARBOUR-3")
	for _, c := range [][2]string{{"GET", Path + "/X"}, {"POST", Path + "/X"}, {"GET", "/X"}, {"POST", "/set/X"}} {
		assert.Equal(t, http.StatusNotFound, ask(c[0], c[1], "{}").Code, c)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, ask("POST", Path+"/HARBOUR-1", "{").Code)
}
