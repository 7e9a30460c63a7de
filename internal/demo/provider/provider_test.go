package provider

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestACodeIsGoodOnceAndForItsOwnProof(t *testing.T) {
	p, err := New("http://id.saltmarsh.example", "pane")
	require.NoError(t, err)
	sum := sha256.Sum256([]byte("proof"))
	asked := url.Values{"client_id": {"pane"}, "response_type": {"code"}, "redirect_uri": {"https://lab.example/back"}, "state": {"s"},
		"nonce":          {"n"},
		"code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}
	get := func(change url.Values) *httptest.ResponseRecorder {
		q := url.Values{}
		for _, from := range []url.Values{asked, change} {
			for k, v := range from {
				q[k] = v
			}
		}
		w := httptest.NewRecorder()
		p.ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/authorize?"+q.Encode(), nil))
		return w
	}
	page := get(nil)
	assert.Contains(t, page.Body.String(), "whoever comes is believed")
	for _, who := range People {
		assert.Contains(t, page.Body.String(), who.Name)
	}
	for name, v := range map[string]string{"client_id": "other", "response_type": "token", "code_challenge_method": "plain",
		"redirect_uri": "nowhere"} {
		assert.Equal(t, http.StatusBadRequest, get(url.Values{name: {v}}).Code, name)
	}
	assert.Equal(t, http.StatusOK, get(url.Values{"as": {"nobody"}}).Code, "it asks again")
	code := func() string {
		w := get(url.Values{"as": {"harbour-2"}})
		require.Equal(t, http.StatusSeeOther, w.Code)
		to, err := url.Parse(w.Header().Get("Location"))
		require.NoError(t, err)
		assert.Equal(t, "s", to.Query().Get("state"))
		return to.Query().Get("code")
	}
	token := func(code, verifier, redirect string) (status int, claims map[string]any) {
		form := url.Values{"code": {code}, "code_verifier": {verifier}, "redirect_uri": {redirect}}
		r, w := httptest.NewRequest(http.MethodPost, "/token", strings.NewReader(form.Encode())), httptest.NewRecorder()
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		p.ServeHTTP(w, r)
		var got struct {
			Token string `json:"id_token"`
		}
		require.NoError(t, json.Unmarshal(w.Body.Bytes(), &got))
		if parts := strings.Split(got.Token, "."); len(parts) == 3 {
			raw, err := base64.RawURLEncoding.DecodeString(parts[1])
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(raw, &claims))
		}
		return w.Code, claims
	}
	for _, bad := range [][3]string{{code(), "guess", "https://lab.example/back"}, {code(), "proof", "https://evil.example/"}, {"none",
		"proof",
		"https://lab.example/back"}} {
		status, claims := token(bad[0], bad[1], bad[2])
		assert.Equal(t, http.StatusBadRequest, status, bad)
		assert.Nil(t, claims)
	}
	once := code()
	status, claims := token(once, "proof", "https://lab.example/back")
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, []any{"harbour-2", "pane", "n", "gull@saltmarsh.example", true, "http://id.saltmarsh.example"},
		[]any{claims["sub"], claims["aud"], claims["nonce"], claims["email"], claims["email_verified"], claims["iss"]})
	status, _ = token(once, "proof", "https://lab.example/back")
	assert.Equal(t, http.StatusBadRequest, status, "once")
	w := httptest.NewRecorder()
	p.ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/keys", nil))
	assert.NotContains(t, w.Body.String(), `"d"`, "the private part stays here")
}
