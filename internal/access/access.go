// Package access knows who may do what: tokens, whose they are and what they may do
// where, the console sessions and one-time links that are made from them, and what is
// held open under them. It sees nothing of runs.
package access

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/store"
)

// For how long tokens are good.
const (
	usualLife   = 365 * 24 * time.Hour
	longestLife = 10 * usualLife
	consoleLife = 30 * 24 * time.Hour
	consoleIdle = 12 * time.Hour
	codeLife    = 10 * time.Minute
)

// Limits.
const (
	maxConsoles = 20   // console sessions of one token
	maxCodes    = 20   // one-time links of one token that have not been used
	maxRights   = 100  // of one token
	maxTokens   = 5000 // in the lab, console sessions not counted
)

// knownLife is for how long a token is not looked up again, and how often its last
// use is noted. A token that is dropped is forgotten at once.
const knownLife = 30 * time.Second

// Access is who has a token of the service.
type Access struct {
	store *store.Store
	now   func() time.Time
	log   *slog.Logger

	mu    sync.Mutex // guards what follows
	known map[string]knownToken
	gone  map[string]bool // tokens that were dropped since the start, by id
	codes map[string]code
	holds map[*hold]bool
	used  map[string]use // not on record yet, by id

	strangers strangers
	provider  *provider // nil for none
}

type knownToken struct {
	who   api.Who
	row   store.Token
	until time.Time
}

type code struct {
	who     api.Who
	expires time.Time
}

type use struct {
	at   int64
	from string
}

// New reads tokens from a store.
func New(st *store.Store, log *slog.Logger, now func() time.Time) *Access {
	return &Access{store: st, log: log, now: now, known: map[string]knownToken{}, gone: map[string]bool{}, codes: map[string]code{},
		holds: map[*hold]bool{}, used: map[string]use{}}
}

const tokenPrefix = "pane_"

func newSecret() string { return tokenPrefix + strings.ToLower(rand.Text()) }

func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Authenticate finds who a token belongs to, and notes that it was used from an
// address.
func (a *Access) Authenticate(ctx context.Context, secret, from string) (api.Who, error) {
	hash := hashOf(secret)
	a.mu.Lock()
	k, ok := a.known[string(hash)]
	a.mu.Unlock()
	if now := a.now(); !ok || !now.Before(k.until) {
		row, err := a.store.TokenByHash(ctx, hash)
		if errors.Is(err, store.ErrNotFound) {
			return api.Who{}, api.Errorf(api.Unauthorized, "the token is not valid here: check the address of the service and the token")
		}
		if err != nil {
			return api.Who{}, err
		}
		who, err := whoOf(row)
		if err != nil {
			return api.Who{}, err
		}
		k = knownToken{who, row, now.Add(knownLife)}
	}
	return a.enter(hash, k, from)
}

// enter lets somebody in unless their token has ended.
func (a *Access) enter(hash []byte, k knownToken, from string) (api.Who, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.now()
	if a.goneLocked(k.who) {
		return api.Who{}, api.Errorf(api.Unauthorized, "the token is no longer valid: somebody has dropped it")
	}
	if !now.Before(k.who.Expires) {
		return api.Who{}, api.Errorf(api.Unauthorized, "the token expired on %s: ask for a new one", k.who.Expires.UTC().Format("2006-01-02"))
	}
	last := max(k.row.UsedAt, a.used[k.who.TokenID].at)
	if k.row.Root != "" && now.Sub(store.Time(last)) > consoleIdle {
		return api.Who{}, api.Errorf(api.Unauthorized, "nothing was done in this console session for %d hours: sign in again",
			int(consoleIdle.Hours()))
	}
	a.used[k.who.TokenID] = use{store.Millis(now), from}
	k.row.UsedAt = store.Millis(now)
	a.known[string(hash)] = k
	return k.who, nil
}

// Of is the one to whom a token belongs, by its id.
func (a *Access) Of(ctx context.Context, token string) (api.Who, error) {
	row, err := a.store.TokenByID(ctx, token)
	if errors.Is(err, store.ErrNotFound) {
		return api.Who{}, api.Errorf(api.Unauthorized, "the token is no longer valid: somebody has dropped it")
	}
	if err != nil {
		return api.Who{}, err
	}
	return whoOf(row)
}

func (a *Access) goneLocked(who api.Who) bool { return a.gone[who.TokenID] || a.gone[who.Root] }

func whoOf(t store.Token) (api.Who, error) {
	who := api.Who{TokenID: t.ID, Root: cmp.Or(t.Root, t.ID), Name: t.Name, Owner: t.Owner, Agent: t.Agent, Pool: t.Pool,
		Expires: store.Time(t.ExpiresAt)}
	if err := json.Unmarshal([]byte(t.Rights), &who.Rights); err != nil {
		return who, fmt.Errorf("records of token %s: %w", t.ID, err)
	}
	who.Role = api.Highest(who.Rights)
	if t.Share != "" {
		if err := json.Unmarshal([]byte(t.Share), &who.Share); err != nil {
			return who, fmt.Errorf("records of share link %s: %w", t.ID, err)
		}
	}
	return who, nil
}

func tokenOf(t store.Token, now store.Token) (api.Token, error) {
	out := api.Token{ID: t.ID, Name: t.Name, Owner: t.Owner, Console: t.Root != "", Agent: t.Agent, Pool: t.Pool,
		CreatedAt: api.At(t.CreatedAt), ExpiresAt: api.At(t.ExpiresAt), UsedAt: api.At(max(t.UsedAt, now.UsedAt)),
		UsedFrom: cmp.Or(now.UsedFrom, t.UsedFrom)}
	if err := json.Unmarshal([]byte(t.Rights), &out.Rights); err != nil {
		return out, fmt.Errorf("records of token %s: %w", t.ID, err)
	}
	return out, nil
}

// AddToken makes a token and returns its secret, which is not kept.
func (a *Access) AddToken(ctx context.Context, q api.TokenRequest) (api.Token, string, error) {
	row, err := a.wanted(q)
	if err != nil {
		return api.Token{}, "", err
	}
	all, err := a.store.Tokens(ctx)
	if err != nil {
		return api.Token{}, "", err
	}
	if n := len(slices.DeleteFunc(all, func(t store.Token) bool { return t.Root != "" })); n >= maxTokens {
		return api.Token{}, "", api.Errorf(api.Conflict, "there are %d tokens, which is as many as there may be: drop some first", n)
	}
	return a.add(row)
}

func (a *Access) add(row store.Token) (api.Token, string, error) {
	secret := newSecret()
	row.ID, row.Hash, row.CreatedAt = store.NewID(), hashOf(secret), store.Millis(a.now())
	if err := a.store.Write(store.AddToken(row)); err != nil {
		return api.Token{}, "", err
	}
	t, err := tokenOf(row, store.Token{})
	return t, secret, err
}

// wanted checks what is asked of a token.
func (a *Access) wanted(q api.TokenRequest) (store.Token, error) {
	fail := func(format string, args ...any) (store.Token, error) {
		return store.Token{}, api.Errorf(api.Invalid, format, args...)
	}
	q.Name = strings.TrimSpace(q.Name)
	q.Owner = cmp.Or(strings.TrimSpace(q.Owner), q.Name)
	for field, text := range map[string]string{"name": q.Name, "owner": q.Owner} {
		if text == "" || len(text) > 64 || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return fail("%s: a token needs one of 1 to 64 characters", field)
		}
	}
	if (q.Role == "") == (len(q.Rights) == 0) {
		return fail("a token needs either a role or rights: one of %v", api.Roles)
	}
	if q.Role != "" {
		q.Rights = api.InLab(q.Role)
	}
	if len(q.Rights) > maxRights {
		return fail("rights: at most %d, found %d", maxRights, len(q.Rights))
	}
	forAgent := false
	for _, r := range q.Rights {
		if !slices.Contains(api.Roles, r.Role) {
			return fail("unknown role %q: use one of %v", r.Role, api.Roles)
		}
		if r.Project != api.Everywhere && !fleet.IsName(r.Project) {
			return fail("%q is not the name of a project, nor *", r.Project)
		}
		forAgent = forAgent || r.Role == api.AgentRole
	}
	switch {
	case forAgent && (len(q.Rights) > 1 || q.Rights[0].Project != api.Everywhere):
		return fail("an agent's token is for nothing else: the role agent, and no project (--pool says whom it serves)")
	case !forAgent && (q.Agent != "" || q.Pool != ""):
		return fail("agent and pool are for a token of the role agent")
	case q.Agent != "" && !fleet.IsName(q.Agent):
		return fail("%q is not a name for an agent: letters, digits, '.', '-' and '_', at most 64", q.Agent)
	case q.Pool != "" && !fleet.IsName(q.Pool):
		return fail("%q is not the name of a pool: %s, or a project", q.Pool, fleet.Shared)
	}
	expires := a.now().Add(usualLife)
	if q.ExpiresAt != nil {
		if expires = *q.ExpiresAt; !expires.After(a.now()) || expires.After(a.now().Add(longestLife)) {
			return fail("expires_at: expected a time from now on and within ten years, found %s", expires.Format(time.RFC3339))
		}
	}
	return store.Token{Name: q.Name, Owner: q.Owner, Rights: store.JSON(q.Rights), Agent: q.Agent, Pool: q.Pool,
		ExpiresAt: store.Millis(expires)}, nil
}

// Tokens lists the tokens of the one who asks; to the lab's admin, every one.
func (a *Access) Tokens(ctx context.Context, who api.Who) ([]api.Token, error) {
	rows, err := a.store.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Token{}
	for _, row := range rows {
		if !mayMind(who, row) {
			continue
		}
		a.mu.Lock()
		u := a.used[row.ID]
		a.mu.Unlock()
		t, err := tokenOf(row, store.Token{UsedAt: u.at, UsedFrom: u.from})
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

// mayMind reports whether somebody may see that there is a token, and drop it.
func mayMind(who api.Who, t store.Token) bool {
	return t.Owner == who.Owner || who.May(api.Admin, api.Everywhere)
}

// DropToken makes a token invalid, and with it what was made from it. The answer is
// the token as it was.
func (a *Access) DropToken(ctx context.Context, who api.Who, id string) (api.Token, error) {
	row, err := a.store.TokenByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && !mayMind(who, row) {
		return api.Token{}, api.Errorf(api.NotFound, "there is no token %s", id)
	}
	if err != nil {
		return api.Token{}, err
	}
	if err := a.store.Write(store.DropToken(id)...); errors.Is(err, store.ErrGuard) {
		return api.Token{}, api.Errorf(api.NotFound, "there is no token %s", id)
	} else if err != nil {
		return api.Token{}, err
	}
	a.end(id)
	return tokenOf(row, store.Token{})
}

// end forgets a token and ends what is held under it.
func (a *Access) end(id string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.gone[id] = true
	clear(a.known)
	for h := range a.holds {
		if a.goneLocked(h.who) {
			a.endLocked(h)
		}
	}
}

// Bind gives an agent's token to the agent that joins with it. A token that belongs to
// another agent, or is for another pool, is refused.
func (a *Access) Bind(who api.Who, agent, pool string) error {
	pool = cmp.Or(pool, fleet.Shared)
	switch {
	case !fleet.IsName(agent) && (who.Agent == "" || who.Agent == agent && who.Pool == ""):
		return api.Errorf(api.Forbidden, "%s joins with the token of its machine's agent, which has to join first", agent)
	case who.Agent != "" && who.Agent != agent:
		return api.Errorf(api.Forbidden, "this token belongs to the agent %s: make one for %s with pane token add %[2]s --role agent "+
			"--agent %[2]s", who.Agent, agent)
	case who.Pool != "" && who.Pool != pool:
		return api.Errorf(api.Forbidden, "the token of agent %s is for the pool %s, not for %s: make another with pane token add --pool",
			agent, who.Pool, pool)
	case who.Agent == agent && who.Pool == pool:
		return nil
	}
	err := a.store.Write(store.BindToken(who.TokenID, agent, pool))
	a.mu.Lock()
	clear(a.known)
	a.mu.Unlock()
	if errors.Is(err, store.ErrGuard) {
		return api.Errorf(api.Forbidden, "another agent has joined with this token, or another token belongs to an agent %s: "+
			"every agent needs one of its own, from pane token add NAME --role agent --agent %[1]s", agent)
	}
	return err
}

// Names of the files that hold the first tokens, in the data directory.
const (
	AdminTokenFile = "admin.token"
	AgentTokenFile = "agent.token"
)

// FirstTokens makes an admin's token when nobody has one that is good, and an agent's
// when there are no tokens at all, and leaves them in the data directory for the
// programs of this machine.
func (a *Access) FirstTokens(ctx context.Context, dir string) error {
	have, err := a.store.Tokens(ctx)
	if err != nil {
		return err
	}
	admin := slices.ContainsFunc(have, func(t store.Token) bool {
		who, err := whoOf(t)
		return err == nil && t.Root == "" && who.May(api.Admin, api.Everywhere) && a.now().Before(who.Expires)
	})
	first := map[string]api.Role{}
	if !admin {
		first[AdminTokenFile] = api.Admin
	}
	if len(have) == 0 {
		first[AgentTokenFile] = api.AgentRole
	}
	for file, role := range first {
		_, secret, err := a.AddToken(ctx, api.TokenRequest{Name: "first " + string(role), Owner: string(role), Role: role})
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, file), []byte(secret+"\n"), 0o600); err != nil {
			return fmt.Errorf("keep the first %s token: %w", role, err)
		}
	}
	return nil
}
