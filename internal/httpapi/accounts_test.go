package httpapi_test

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/access"
	"parallelpane/internal/api"
	"parallelpane/internal/demo/provider"
	"parallelpane/internal/service"
)

// withProvider starts a service that signs people in with a provider.
func withProvider(t *testing.T, issuer string, newcomers ...api.Right) *yard {
	return startOn(t, t.TempDir(), func(c *service.Config, base string) {
		c.SignIn = access.Provider{Issuer: issuer, Client: "pane", Name: "the harbour office", Back: base + "/sign-in/back", Newcomers: newcomers}
	})
}

// standInProvider is the stand-in that ships.
func standInProvider(t *testing.T) string {
	var p *provider.Provider
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	p, err := provider.New(server.URL, "pane")
	require.NoError(t, err)
	return server.URL
}

// browser follows no redirect by itself, and keeps cookies.
func browser(t *testing.T) *http.Client {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

func visit(t *testing.T, c *http.Client, address string) (status int, to string) {
	resp, err := c.Get(address)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	return resp.StatusCode, resp.Header.Get("Location")
}

// begins signs somebody in as far as the way back from the provider.
func (x *yard) begins(c *http.Client, as string) (back string) {
	status, to := visit(x.t, c, x.base+"/sign-in/with")
	require.Equal(x.t, http.StatusSeeOther, status)
	status, back = visit(x.t, c, to+"&as="+as)
	require.Equal(x.t, http.StatusSeeOther, status, to)
	return back
}

// me is who a browser is signed in as; "" for nobody.
func (x *yard) me(c *http.Client) (who api.Who, status int) {
	resp, err := c.Get(x.base + "/api/v1/me")
	require.NoError(x.t, err)
	defer resp.Body.Close()
	if resp.StatusCode == 200 {
		require.NoError(x.t, json.NewDecoder(resp.Body).Decode(&who))
	}
	return who, resp.StatusCode
}

func TestSignInWithAProvider(t *testing.T) {
	x := withProvider(t, standInProvider(t))
	var ways api.SignInWays
	require.NoError(t, json.Unmarshal(x.do("GET", "/api/v1/sign-in", "", nil).body, &ways))
	assert.Equal(t, "the harbour office", ways.Provider)
	var tern api.Account
	x.post("/accounts", api.AccountRequest{Name: "tern", Mail: "Tern@saltmarsh.example", Rights: []api.Right{in("saltmarsh", api.Runner)}},
		&tern)

	c := browser(t)
	back := x.begins(c, "harbour-1")
	stranger := browser(t)
	status, _ := visit(t, stranger, back)
	assert.Equal(t, 401, status, "somebody is sent a link that was begun elsewhere")
	status, _ = visit(t, c, back)
	require.Equal(t, 200, status)
	who, _ := x.me(c)
	assert.Equal(t, []any{"tern", api.Runner, []api.Right{in("saltmarsh", api.Runner)}}, []any{who.Owner, who.Role, who.Rights})
	_, status = x.me(stranger)
	assert.Equal(t, 401, status)
	status, _ = visit(t, c, back)
	assert.Equal(t, 401, status, "once")

	// A code of one sign-in does not end another: the proof and the nonce are of the browser's own.
	one, two := browser(t), browser(t)
	first, second := x.begins(one, "harbour-1"), x.begins(two, "harbour-2")
	u, err := url.Parse(second)
	require.NoError(t, err)
	theirs, err := url.Parse(first)
	require.NoError(t, err)
	q := u.Query()
	q.Set("code", theirs.Query().Get("code"))
	u.RawQuery = q.Encode()
	status, _ = visit(t, two, u.String())
	assert.Equal(t, 401, status)
	status, _ = visit(t, one, x.begins(one, "harbour-2"))
	assert.Equal(t, 403, status, "gull has no account, and newcomers are not let in")
	status, _ = visit(t, one, x.begins(one, "visitor-1"))
	assert.Equal(t, 403, status, "the mail address is tern's, but nobody has checked it")
	status, to := visit(t, one, x.base+"/sign-in/with")
	require.Equal(t, 303, status)
	state := regexpState(to)
	status, _ = visit(t, one, x.base+"/sign-in/back?error=access_denied&state="+state)
	assert.Equal(t, 401, status)

	// Other rights, and another mail address, mean to sign in again; who goes is gone at once.
	x.post("/accounts/"+tern.ID, api.AccountRequest{Role: api.Viewer}, &tern)
	_, status = x.me(c)
	assert.Equal(t, 401, status)
	status, _ = visit(t, c, x.begins(c, "harbour-1"))
	require.Equal(t, 200, status)
	who, _ = x.me(c)
	assert.Equal(t, api.InLab(api.Viewer), who.Rights)
	token := x.as("tern", in("saltmarsh", api.Viewer))
	require.Equal(t, 204, x.do("DELETE", "/api/v1/accounts/"+tern.ID, x.token, nil).status)
	_, status = x.me(c)
	assert.Equal(t, 401, status)
	assert.Equal(t, 401, x.do("GET", "/api/v1/me", token, nil).status, "their tokens end too")

	var audit []api.AuditEntry
	x.get("/audit?act=sign+in&refused=yes", &audit)
	assert.GreaterOrEqual(t, len(audit), 5)
	assert.Equal(t, 404, start(t, t.TempDir()).do("GET", "/sign-in/with", "", nil).status, "without a provider")
}

func regexpState(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Query().Get("state")
}

func TestNewcomers(t *testing.T) {
	x := withProvider(t, standInProvider(t), in("saltmarsh", api.Viewer))
	x.as("visitor", api.InLab(api.Admin)...) // a token of somebody else of that name
	c := browser(t)
	status, _ := visit(t, c, x.begins(c, "visitor-1"))
	require.Equal(t, 200, status)
	who, _ := x.me(c)
	assert.Equal(t, []any{"visitor-2", []api.Right{in("saltmarsh", api.Viewer)}}, []any{who.Owner, who.Rights},
		"somebody else's name is not theirs")
	var mine api.MyAccount
	resp, err := c.Get(x.base + "/api/v1/me/account")
	require.NoError(t, err)
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&mine))
	require.NoError(t, resp.Body.Close())
	require.NotNil(t, mine.Account)
	assert.Empty(t, mine.Account.Mail, "nobody has checked it")
	status, _ = visit(t, c, x.begins(c, "visitor-1"))
	require.Equal(t, 200, status)
	again, _ := x.me(c)
	assert.Equal(t, who.Owner, again.Owner, "they are known by now")
	for range 100 { // nobody knows who begins to sign in: an address may do so a hundred times at once
		status, _ = visit(t, c, x.base+"/sign-in/with")
		require.Equal(t, http.StatusSeeOther, status)
	}
	status, _ = visit(t, c, x.base+"/sign-in/with")
	assert.Equal(t, http.StatusTooManyRequests, status)
}

// A provider whose ID tokens are not what they are to be signs nobody in.
func TestIDTokensThatCannotBeBelieved(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	var base, nonce string
	var claims map[string]any
	sign := key
	mux := http.NewServeMux()
	say := func(path string, body func() any) {
		mux.HandleFunc(path, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			assert.NoError(t, json.NewEncoder(w).Encode(body()))
		})
	}
	say("/.well-known/openid-configuration", func() any {
		return map[string]any{"issuer": base, "authorization_endpoint": base + "/authorize", "token_endpoint": base + "/token",
			"jwks_uri": base + "/keys"}
	})
	say("/keys", func() any {
		return jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}}
	})
	say("/token", func() any {
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: sign, KeyID: "one"}}, nil)
		assert.NoError(t, err)
		all := map[string]any{"iss": base, "sub": "x", "aud": "pane", "nonce": nonce, "exp": time.Now().Add(time.Minute).Unix(),
			"email": "tern@saltmarsh.example", "email_verified": true}
		for k, v := range claims {
			all[k] = v
		}
		token, err := jwt.Signed(signer).Claims(all).Serialize()
		assert.NoError(t, err)
		return map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": token}
	})
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	base = server.URL
	x := withProvider(t, base)
	x.post("/accounts", api.AccountRequest{Name: "tern", Mail: "tern@saltmarsh.example", Role: api.Admin}, nil)
	c := browser(t)
	for name, bad := range map[string]map[string]any{"": nil, "of another client": {"aud": "somebody"},
		"of another issuer": {"iss": "https://evil.example"},
		"of yesterday":      {"exp": time.Now().Add(-time.Hour).Unix()}, "of another sign-in": {"nonce": "stale"}, "of nobody's key": {}} {
		status, to := visit(t, c, x.base+"/sign-in/with")
		require.Equal(t, 303, status)
		u, err := url.Parse(to)
		require.NoError(t, err)
		nonce, claims, sign = u.Query().Get("nonce"), bad, key
		if strings.HasSuffix(name, "key") {
			sign = other
		}
		status, _ = visit(t, c, x.base+"/sign-in/back?code=c&state="+regexpState(to))
		assert.Equal(t, map[bool]int{true: 200, false: 401}[name == ""], status, name)
	}
}

func TestAccountsAreToldToThoseWhoMayKnow(t *testing.T) {
	x := start(t, t.TempDir())
	x.post("/accounts", api.AccountRequest{Name: "tern", Mail: "tern@saltmarsh.example", Rights: []api.Right{in("saltmarsh", api.Keeper)}},
		nil)
	x.post("/accounts", api.AccountRequest{Name: "heron", Mail: "heron@marina.example", Rights: []api.Right{in("marina", api.Viewer)}}, nil)
	guest := x.as("guest", in("marina", api.Admin))
	a := x.do("GET", "/api/v1/accounts", guest, nil)
	var list []api.Account
	require.NoError(t, json.Unmarshal(a.body, &list))
	require.Len(t, list, 1)
	assert.Equal(t, []any{"heron", "", 0}, []any{list[0].Name, list[0].Mail, len(list[0].Rights)})
	assert.NotContains(t, string(a.body), "tern")
	for _, c := range []struct{ method, path string }{{"POST", "/accounts"}, {"DELETE", "/accounts/x"}, {"POST", "/accounts/x"}} {
		assert.Equal(t, 403, x.do(c.method, "/api/v1"+c.path, guest, map[string]any{}).status)
	}
	assert.Equal(t, 409, x.do("POST", "/api/v1/me/account", guest, map[string]any{"mentions": false}).status, "guest has none")
	for body, want := range map[string]string{
		`{"name":"a b","role":"viewer"}`: "name:", `{"name":"gull"}`: "either a role or rights",
		`{"name":"gull","role":"agent"}`:                              "an agent has no account",
		`{"name":"gull","role":"viewer","mail":"Gull <g@x.example>"}`: "mail:", `{"name":"TERN","role":"viewer"}`: "there is an account TERN",
		`{"name":"gull","role":"viewer","mail":"TERN@saltmarsh.example"}`: "one with its mail address",
	} {
		a := x.do("POST", "/api/v1/accounts", x.token, json.RawMessage(body))
		assert.GreaterOrEqual(t, a.status, 400, body)
		assert.Contains(t, string(a.body), want)
	}
	mine := x.as("heron", in("marina", api.Viewer))
	assert.Equal(t, 404, x.do("POST", "/api/v1/me/hears", mine, map[string]any{"project": "saltmarsh", "of": []string{"failed"}}).status)
	assert.Equal(t, 409, x.do("POST", "/api/v1/me/hears", mine, map[string]any{"project": "marina", "of": []string{"failed"}}).status,
		"there is no mail here")
}
