package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// Provider is who signs people in (OpenID Connect Core 1.0, authorization code flow with
// PKCE, RFC 7636); the zero value is nobody.
type Provider struct {
	Issuer    string // its address
	Client    string // what it calls the lab
	Secret    string // what the lab shows it; may be empty
	Name      string // for people
	Back      string // address of the service to which it sends people back
	Newcomers []api.Right
}

// Check reports what is wrong with how a provider is described.
func (p Provider) Check() error {
	u, err := url.Parse(p.Issuer)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && !(u.Scheme == "http" && isLoopback(u.Hostname())) {
		return fmt.Errorf("expected the https address of an OpenID provider, found %.80q", p.Issuer)
	}
	if p.Client == "" {
		return errors.New("say what the provider calls this service: --sign-in-client")
	}
	return nil
}

func isLoopback(host string) bool {
	return host == "localhost" || host == "::1" || strings.HasPrefix(host, "127.")
}

// Bounds of signing in with a provider: how long one may take, how many are under way, how
// long the provider may take to answer.
const (
	signInLife    = 10 * time.Minute
	maxSignIns    = 10_000
	maxFrom       = 100 // of them from one address: nobody is known yet
	providerLimit = 10 * time.Second
)

// provider is one that is spoken to; it is asked what it is when somebody first comes.
type provider struct {
	Provider
	mu    sync.Mutex
	known *oidc.Provider
	begun map[string]begun // by state
}

// begun is a sign-in that is under way.
type begun struct {
	nonce, verifier, from string
	until                 time.Time
}

// UseProvider has people sign in with a provider.
func (a *Access) UseProvider(p Provider) {
	if p.Issuer != "" {
		a.provider = &provider{Provider: p, begun: map[string]begun{}}
	}
}

// SignInWays are the ways in besides tokens and links.
func (a *Access) SignInWays() api.SignInWays {
	if a.provider == nil {
		return api.SignInWays{}
	}
	return api.SignInWays{Provider: a.provider.Name}
}

// errNoProvider is told where nobody signs people in.
var errNoProvider = api.Errorf(api.NotFound, "this service has no OpenID provider: pane serve --sign-in names one")

func providerContext(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, &http.Client{Timeout: providerLimit})
}

// ask finds out what a provider is, once.
func (p *provider) ask(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	known := p.known
	p.mu.Unlock()
	if known != nil {
		return known, nil
	}
	known, err := oidc.NewProvider(providerContext(context.WithoutCancel(ctx)), p.Issuer)
	if err != nil {
		return nil, api.Errorf(api.Beyond, "%s cannot be reached to sign anybody in: %.200v", p.Name, err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.known = known
	return known, nil
}

func (p *provider) config(known *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{ClientID: p.Client, ClientSecret: p.Secret, Endpoint: known.Endpoint(), RedirectURL: p.Back,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}
}

// BeginSignIn gives the address of the provider to which somebody goes to sign in, and the
// state that is to come back from there.
func (a *Access) BeginSignIn(ctx context.Context, from string) (address, state string, err error) {
	p := a.provider
	if p == nil {
		return "", "", errNoProvider
	}
	known, err := p.ask(ctx)
	if err != nil {
		return "", "", err
	}
	now := a.now()
	b := begun{nonce: rand.Text(), verifier: oauth2.GenerateVerifier(), from: from, until: now.Add(signInLife)}
	state = rand.Text()
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.begun, func(_ string, b begun) bool { return !now.Before(b.until) })
	mine := 0
	for _, other := range p.begun {
		if other.from == from {
			mine++
		}
	}
	if len(p.begun) >= maxSignIns || mine >= maxFrom {
		return "", "", api.Errorf(api.TooMany, "too many are signing in at once: try again in a while")
	}
	p.begun[state] = b
	return p.config(known).AuthCodeURL(state, oidc.Nonce(b.nonce), oauth2.S256ChallengeOption(b.verifier)), state, nil
}

// claims are what is read of an ID token (OpenID Connect Core 1.0, section 5.1).
type claims struct {
	Email    string `json:"email"`
	Verified bool   `json:"email_verified"`
	Username string `json:"preferred_username"`
}

// EndSignIn makes a console session for whoever the provider says came back with a code.
func (a *Access) EndSignIn(ctx context.Context, state, code, from string) (api.Who, string, error) {
	p := a.provider
	if p == nil {
		return api.Who{}, "", errNoProvider
	}
	p.mu.Lock()
	b, ok := p.begun[state]
	delete(p.begun, state)
	p.mu.Unlock()
	if !ok || !a.now().Before(b.until) {
		return api.Who{}, "", api.Errorf(api.Unauthorized, "this sign-in was not begun here, or longer than ten minutes ago: begin again")
	}
	known, err := p.ask(ctx)
	if err != nil {
		return api.Who{}, "", err
	}
	ctx = providerContext(ctx)
	tokens, err := p.config(known).Exchange(ctx, code, oauth2.VerifierOption(b.verifier))
	if err != nil {
		return api.Who{}, "", api.Errorf(api.Unauthorized, "%s does not stand by this sign-in: begin again", p.Name)
	}
	raw, _ := tokens.Extra("id_token").(string)
	id, err := known.Verifier(&oidc.Config{ClientID: p.Client, Now: a.now}).Verify(ctx, raw)
	if err != nil || id.Nonce != b.nonce {
		return api.Who{}, "", api.Errorf(api.Unauthorized, "what %s says of this sign-in cannot be believed: begin again", p.Name)
	}
	var c claims
	if err := id.Claims(&c); err != nil {
		return api.Who{}, "", api.Errorf(api.Unauthorized, "what %s says of this sign-in cannot be read", p.Name)
	}
	return a.enterAccount(ctx, id.Issuer, id.Subject, c, from)
}

// enterAccount finds the account of somebody who has signed in, or makes one for a newcomer
// where newcomers are let in, and makes a console session of it.
func (a *Access) enterAccount(ctx context.Context, issuer, subject string, c claims, from string) (api.Who, string, error) {
	if !c.Verified {
		c.Email = "" // anybody may say that it is theirs
	}
	row, err := a.store.AccountOf(ctx, issuer, subject, c.Email)
	switch {
	case errors.Is(err, store.ErrNotFound) && len(a.provider.Newcomers) > 0:
		row, err = a.newcomer(ctx, issuer, subject, c)
	case errors.Is(err, store.ErrNotFound):
		return api.Who{}, "", api.Errorf(api.Forbidden, "there is no account here for %s: the lab's admin adds one with pane account add",
			orWhoever(c))
	case err == nil && row.Subject == "":
		if err = a.store.Write(store.KnowAccount(row.ID, issuer, subject)); errors.Is(err, store.ErrGuard) {
			err = api.Errorf(api.Conflict, "somebody else signed in as %s just now", row.Name)
		}
	}
	if err != nil {
		return api.Who{}, "", err
	}
	x, err := accountOf(row)
	if err != nil {
		return api.Who{}, "", err
	}
	now := a.now()
	if err := a.store.Write(store.SawAccount(row.ID, store.Millis(now))); err != nil {
		return api.Who{}, "", err
	}
	return a.signIn(ctx, api.Who{Root: row.ID, Name: "signed in with " + a.provider.Name, Owner: row.Name, Rights: x.Rights,
		Role: api.Highest(x.Rights), Expires: now.Add(consoleLife)}, from)
}

func orWhoever(c claims) string {
	if c.Email == "" {
		return "you"
	}
	return fmt.Sprintf("%.100s", c.Email)
}

// newcomer makes an account for somebody whom nobody knows, under a name that nobody has:
// under whose name somebody comes, their tokens are theirs.
func (a *Access) newcomer(ctx context.Context, issuer, subject string, c claims) (store.Account, error) {
	taken := map[string]bool{}
	tokens, err := a.store.Tokens(ctx)
	if err != nil {
		return store.Account{}, err
	}
	for _, t := range tokens {
		taken[strings.ToLower(t.Owner)], taken[strings.ToLower(t.Name)] = true, true
	}
	have, err := a.store.Accounts(ctx)
	if err != nil {
		return store.Account{}, err
	}
	for _, x := range have {
		taken[strings.ToLower(x.Name)] = true
	}
	mailbox, _, _ := strings.Cut(c.Email, "@")
	base := "somebody"
	for _, name := range []string{c.Username, mailbox} {
		if accountName.MatchString(name) && len(name) <= 50 {
			base = name
			break
		}
	}
	name := base
	for n := 2; taken[strings.ToLower(name)]; n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	row := store.Account{Name: name, Mail: c.Email, Rights: store.JSON(a.provider.Newcomers), Issuer: issuer, Subject: subject,
		MadeBy: a.provider.Name}
	made, err := a.addAccount(ctx, row)
	row.ID = made.ID
	return row, err
}
