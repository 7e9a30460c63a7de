// Package provider is a stand-in for an OpenID provider: whoever comes picks which of a few
// made-up people they are, and no password is asked. It speaks OpenID Connect Core 1.0
// (authorization code flow with PKCE) so far as signing in needs it, and is for trying and
// for tests alone.
package provider

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Person is somebody who signs in.
type Person struct {
	Subject  string
	Name     string
	Username string
	Mail     string
	Verified bool
}

// People are those of Saltmarsh Harbour.
var People = []Person{
	{"harbour-1", "Tern Okafor", "tern", "tern@saltmarsh.example", true},
	{"harbour-2", "Gull Brandt", "gull", "gull@saltmarsh.example", true},
	{"harbour-3", "Avocet Lindqvist", "avocet", "avocet@saltmarsh.example", true},
	{"visitor-1", "A visitor, whose mail address nobody has checked", "visitor", "tern@saltmarsh.example", false},
}

// Provider signs people in.
type Provider struct {
	base, client string
	key          *rsa.PrivateKey
	signer       jose.Signer

	mu    sync.Mutex
	codes map[string]grant
}

// grant is what a code stands for.
type grant struct {
	person                     Person
	redirect, nonce, challenge string
	until                      time.Time
}

// maxCodes bounds codes that nobody has used.
const maxCodes = 1000

// New makes a provider that is reached at an address, for one client.
func New(base, client string) (*Provider, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: "one"}}, nil)
	return &Provider{base: base, client: client, key: key, signer: signer, codes: map[string]grant{}}, err
}

//go:embed provider.html
var pageHTML string

var page = template.Must(template.New("provider").Parse(pageHTML))

// ServeHTTP speaks OpenID Connect.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer(w, http.StatusOK, map[string]any{"issuer": p.base, "authorization_endpoint": p.base + "/authorize",
			"token_endpoint": p.base + "/token",
			"jwks_uri":       p.base + "/keys", "response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"RS256"}, "code_challenge_methods_supported": []string{"S256"}})
	case "/keys":
		answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}})
	case "/authorize":
		p.authorize(w, r)
	case "/token":
		p.token(w, r)
	default:
		http.NotFound(w, r)
	}
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

// authorize shows who one may be; with a choice it sends the browser back with a code.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	wanted := q.Get("client_id") == p.client && q.Get("response_type") == "code" && q.Get("code_challenge_method") == "S256"
	if err != nil || back.Host == "" || !wanted {
		http.Error(w, "this is no sign-in that the client "+p.client+" asks for", http.StatusBadRequest)
		return
	}
	chosen := q.Get("as")
	q.Del("as")
	for _, who := range People {
		if who.Subject != chosen {
			continue
		}
		code := rand.Text()
		p.mu.Lock()
		if len(p.codes) >= maxCodes {
			clear(p.codes)
		}
		p.codes[code] = grant{who, q.Get("redirect_uri"), q.Get("nonce"), q.Get("code_challenge"), time.Now().Add(time.Minute)}
		p.mu.Unlock()
		to := back.Query()
		to.Set("code", code)
		to.Set("state", q.Get("state"))
		back.RawQuery = to.Encode()
		http.Redirect(w, r, back.String(), http.StatusSeeOther)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	_ = page.Execute(w, map[string]any{"People": People, "Query": template.URL(q.Encode()), "Client": p.client, "Host": back.Host})
}

// token gives an ID token for a code, once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	refuse := func() { answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"}) }
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := r.ParseForm(); err != nil || r.Method != http.MethodPost {
		refuse()
		return
	}
	p.mu.Lock()
	g, ok := p.codes[r.PostForm.Get("code")]
	delete(p.codes, r.PostForm.Get("code"))
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
	proof := base64.RawURLEncoding.EncodeToString(sum[:])
	now := time.Now()
	if !ok || !now.Before(g.until) || proof != g.challenge || r.PostForm.Get("redirect_uri") != g.redirect {
		refuse()
		return
	}
	token, err := jwt.Signed(p.signer).Claims(map[string]any{"iss": p.base, "sub": g.person.Subject, "aud": p.client, "nonce": g.nonce,
		"iat": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(), "name": g.person.Name, "preferred_username": g.person.Username,
		"email": strings.ToLower(g.person.Mail), "email_verified": g.person.Verified}).Serialize()
	if err != nil {
		refuse()
		return
	}
	answer(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": token})
}
