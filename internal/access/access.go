// Package access knows who may do what: tokens and their roles, and the doors
// through which a browser comes in. It sees nothing of runs.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// Access is who has a token of the service.
type Access struct {
	store *store.Store
	now   func() time.Time
	door  door
}

// New reads tokens from a store.
func New(st *store.Store, now func() time.Time) *Access {
	return &Access{store: st, now: now, door: door{codes: map[string]doorCode{}}}
}

const tokenPrefix = "pane_"

func newSecret() string { return tokenPrefix + strings.ToLower(rand.Text()) }

func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Authenticate finds who a token belongs to.
func (a *Access) Authenticate(ctx context.Context, secret string) (api.Who, error) {
	hash := hashOf(secret)
	if v, ok := a.door.known.Load(string(hash)); ok && a.now().Before(v.(doorCode).expires) {
		return v.(doorCode).who, nil
	}
	drops := a.door.drops.Load()
	t, err := a.store.TokenByHash(ctx, hash)
	if errors.Is(err, store.ErrNotFound) {
		return api.Who{}, api.Errorf(api.Unauthorized, "the token is not valid here: check the address of the service and the token")
	}
	if err != nil {
		return api.Who{}, err
	}
	who := api.Who{TokenID: t.ID, Name: t.Name, Role: api.Role(t.Role)}
	a.door.known.Store(string(hash), doorCode{who, a.now().Add(knownLife)})
	if a.door.drops.Load() != drops { // perhaps this one, after it was found
		a.door.known.Delete(string(hash))
	}
	return who, nil
}

// AddToken makes a token and returns its secret, which is not kept.
func (a *Access) AddToken(name string, role api.Role) (api.Token, string, error) {
	if name = strings.TrimSpace(name); name == "" || len(name) > 64 {
		return api.Token{}, "", api.Errorf(api.Invalid, "a token needs a name of 1 to 64 characters")
	}
	if !slices.Contains(api.Roles, role) {
		return api.Token{}, "", api.Errorf(api.Invalid, "unknown role %q: use one of %v", role, api.Roles)
	}
	secret := newSecret()
	t := store.Token{ID: store.NewID(), Name: name, Role: string(role), Hash: hashOf(secret), CreatedAt: store.Millis(a.now())}
	if err := a.store.Write(store.AddToken(t)); err != nil {
		return api.Token{}, "", err
	}
	return api.Token{ID: t.ID, Name: t.Name, Role: role, CreatedAt: api.At(t.CreatedAt)}, secret, nil
}

// Tokens lists every token.
func (a *Access) Tokens(ctx context.Context) ([]api.Token, error) {
	rows, err := a.store.Tokens(ctx)
	out := make([]api.Token, len(rows))
	for i, t := range rows {
		out[i] = api.Token{ID: t.ID, Name: t.Name, Role: api.Role(t.Role), CreatedAt: api.At(t.CreatedAt)}
	}
	return out, err
}

// DropToken makes a token invalid.
func (a *Access) DropToken(id string) error {
	if err := a.store.Write(store.DropToken(id)); errors.Is(err, store.ErrGuard) {
		return api.Errorf(api.NotFound, "there is no token %s", id)
	} else if err != nil {
		return err
	}
	a.door.drops.Add(1)
	a.door.known.Clear()
	return nil
}

// Names of the files that hold the first tokens, in the data directory.
const (
	AdminTokenFile = "admin.token"
	AgentTokenFile = "agent.token"
)

// FirstTokens makes an admin's and an agent's token when there are none at all,
// and leaves them in the data directory for the programs of this machine.
func (a *Access) FirstTokens(ctx context.Context, dir string) error {
	have, err := a.store.Tokens(ctx)
	if err != nil || len(have) > 0 {
		return err
	}
	for file, role := range map[string]api.Role{AdminTokenFile: api.Admin, AgentTokenFile: api.AgentRole} {
		_, secret, err := a.AddToken("first "+string(role), role)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, file), []byte(secret+"\n"), 0o600); err != nil {
			return fmt.Errorf("keep the first %s token: %w", role, err)
		}
	}
	return nil
}

// door keeps one-time sign-in codes and the tokens shown of late, in memory
// only.
type door struct {
	mu    sync.Mutex
	codes map[string]doorCode
	known sync.Map     // SHA-256 of a token to its doorCode
	drops atomic.Int64 // of tokens
}

// knownLife is for how long a token is not looked up again. A token that is
// dropped is forgotten at once.
const knownLife = 30 * time.Second

type doorCode struct {
	who     api.Who
	expires time.Time
}

const codeLife = 10 * time.Minute

// SignInCode makes a code that signs a browser in once, within ten minutes, as
// the person who asked for it.
func (a *Access) SignInCode(who api.Who) string {
	code := strings.ToLower(rand.Text())
	a.door.mu.Lock()
	defer a.door.mu.Unlock()
	now := a.now()
	for c, d := range a.door.codes {
		if now.After(d.expires) {
			delete(a.door.codes, c)
		}
	}
	a.door.codes[code] = doorCode{who, now.Add(codeLife)}
	return code
}

// UseCode takes a sign-in code and makes a console session: a token of the same
// role under the person's name. The code is good for this one time.
func (a *Access) UseCode(code string) (api.Who, string, error) {
	a.door.mu.Lock()
	d, ok := a.door.codes[code]
	delete(a.door.codes, code)
	a.door.mu.Unlock()
	if !ok || a.now().After(d.expires) {
		return api.Who{}, "", api.Errorf(api.Unauthorized, "this sign-in link was used already or is older than ten minutes: make a new "+
			"one with pane link")
	}
	secret, err := a.signIn(d.who)
	return d.who, secret, err
}

// SignIn makes a console session for somebody with a token.
func (a *Access) SignIn(ctx context.Context, token string) (api.Who, string, error) {
	who, err := a.Authenticate(ctx, token)
	if err != nil {
		return who, "", err
	}
	if who.Role == api.AgentRole {
		return who, "", api.Errorf(api.Forbidden, "an agent's token does not open the console")
	}
	secret, err := a.signIn(who)
	return who, secret, err
}

func (a *Access) signIn(who api.Who) (string, error) {
	name := who.Name
	if !strings.HasSuffix(name, api.ConsoleSuffix) {
		name += api.ConsoleSuffix
	}
	_, secret, err := a.AddToken(name, who.Role)
	return secret, err
}
