package service

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
	"time"

	"github.com/google/uuid"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

const tokenPrefix = "pane_"

func newSecret() string { return tokenPrefix + strings.ToLower(rand.Text()) }

func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// newID makes an id that sorts by time (RFC 9562, UUID version 7).
func newID() string { return uuid.Must(uuid.NewV7()).String() }

// Authenticate finds who a token belongs to.
func (s *Service) Authenticate(ctx context.Context, secret string) (api.Who, error) {
	hash := hashOf(secret)
	if v, ok := s.door.known.Load(string(hash)); ok && s.now().Before(v.(doorCode).expires) {
		return v.(doorCode).who, nil
	}
	t, err := s.store.TokenByHash(ctx, hash)
	if errors.Is(err, store.ErrNotFound) {
		return api.Who{}, api.Errorf(api.Unauthorized, "the token is not valid here: check the address of the service and the token")
	}
	if err != nil {
		return api.Who{}, err
	}
	who := api.Who{TokenID: t.ID, Name: t.Name, Role: api.Role(t.Role)}
	s.door.known.Store(string(hash), doorCode{who, s.now().Add(knownLife)})
	return who, nil
}

// AddToken makes a token and returns its secret, which is not kept.
func (s *Service) AddToken(name string, role api.Role) (api.Token, string, error) {
	if name = strings.TrimSpace(name); name == "" || len(name) > 64 {
		return api.Token{}, "", api.Errorf(api.Invalid, "a token needs a name of 1 to 64 characters")
	}
	if !slices.Contains(api.Roles, role) {
		return api.Token{}, "", api.Errorf(api.Invalid, "unknown role %q: use one of %v", role, api.Roles)
	}
	secret := newSecret()
	t := store.Token{ID: newID(), Name: name, Role: string(role), Hash: hashOf(secret), CreatedAt: store.Millis(s.now())}
	if err := s.store.Write(store.AddToken(t)); err != nil {
		return api.Token{}, "", err
	}
	return api.Token{ID: t.ID, Name: t.Name, Role: role, CreatedAt: at(t.CreatedAt)}, secret, nil
}

// Tokens lists every token.
func (s *Service) Tokens(ctx context.Context) ([]api.Token, error) {
	rows, err := s.store.Tokens(ctx)
	out := make([]api.Token, len(rows))
	for i, t := range rows {
		out[i] = api.Token{ID: t.ID, Name: t.Name, Role: api.Role(t.Role), CreatedAt: at(t.CreatedAt)}
	}
	return out, err
}

// DropToken makes a token invalid.
func (s *Service) DropToken(id string) error {
	if err := s.store.Write(store.DropToken(id)); errors.Is(err, store.ErrGuard) {
		return api.Errorf(api.NotFound, "there is no token %s", id)
	} else if err != nil {
		return err
	}
	s.door.known.Clear()
	return nil
}

// Names of the files that hold the first tokens, in the data directory.
const (
	AdminTokenFile = "admin.token"
	AgentTokenFile = "agent.token"
)

// firstTokens makes an admin's and an agent's token when there are none at all,
// and leaves them in the data directory for the programs of this machine.
func (s *Service) firstTokens(ctx context.Context, dir string) error {
	have, err := s.store.Tokens(ctx)
	if err != nil || len(have) > 0 {
		return err
	}
	for file, role := range map[string]api.Role{AdminTokenFile: api.Admin, AgentTokenFile: api.AgentRole} {
		_, secret, err := s.AddToken("first "+string(role), role)
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
	known sync.Map // SHA-256 of a token to its doorCode
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
func (s *Service) SignInCode(who api.Who) string {
	code := strings.ToLower(rand.Text())
	s.door.mu.Lock()
	defer s.door.mu.Unlock()
	now := s.now()
	for c, d := range s.door.codes {
		if now.After(d.expires) {
			delete(s.door.codes, c)
		}
	}
	s.door.codes[code] = doorCode{who, now.Add(codeLife)}
	return code
}

// UseCode takes a sign-in code and makes a console session: a token of the same
// role under the person's name. The code is good for this one time.
func (s *Service) UseCode(code string) (api.Who, string, error) {
	s.door.mu.Lock()
	d, ok := s.door.codes[code]
	delete(s.door.codes, code)
	s.door.mu.Unlock()
	if !ok || s.now().After(d.expires) {
		return api.Who{}, "", api.Errorf(api.Unauthorized, "this sign-in link was used already or is older than ten minutes: make a new one with pane link")
	}
	secret, err := s.signIn(d.who)
	return d.who, secret, err
}

// SignIn makes a console session for somebody with a token.
func (s *Service) SignIn(ctx context.Context, token string) (api.Who, string, error) {
	who, err := s.Authenticate(ctx, token)
	if err != nil {
		return who, "", err
	}
	if who.Role == api.AgentRole {
		return who, "", api.Errorf(api.Forbidden, "an agent's token does not open the console")
	}
	secret, err := s.signIn(who)
	return who, secret, err
}

func (s *Service) signIn(who api.Who) (string, error) {
	name := who.Name
	if !strings.HasSuffix(name, consoleSuffix) {
		name += consoleSuffix
	}
	_, secret, err := s.AddToken(name, who.Role)
	return secret, err
}

// consoleSuffix marks the tokens of console sessions in the list of tokens.
const consoleSuffix = " (console)"
