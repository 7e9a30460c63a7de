package access

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// gate is who may come in, on a clock of its own.
type gate struct {
	*Access
	t   *testing.T
	now time.Time
}

func open(t *testing.T) *gate {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	g := &gate{t: t, now: time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)}
	g.Access = New(st, slog.New(slog.DiscardHandler), func() time.Time { return g.now })
	return g
}

// made is somebody with a token.
type made struct {
	api.Token
	secret string
}

func (g *gate) make(q api.TokenRequest) made {
	g.t.Helper()
	tok, secret, err := g.AddToken(g.t.Context(), q)
	require.NoError(g.t, err)
	return made{tok, secret}
}

// shown is who comes in with a token, or the kind of error they are answered.
func (g *gate) shown(secret string) (api.Who, api.Kind) {
	g.t.Helper()
	who, err := g.Authenticate(g.t.Context(), secret, "10.0.0.7")
	return who, kindOf(err)
}

func kindOf(err error) api.Kind {
	var e *api.Error
	if err == nil || !assert.ErrorAs(new(testing.T), err, &e) {
		return ""
	}
	return e.Kind
}

var lord = api.Who{Name: "lord", Owner: "lord", Rights: api.InLab(api.Admin)}

func TestATokenIsGoodUntilItIsDropped(t *testing.T) {
	g := open(t)
	m := g.make(api.TokenRequest{Name: "  CI ", Owner: "tern", Role: api.Runner})
	assert.Equal(t, []string{"CI", "tern"}, []string{m.Name, m.Owner})
	who, bad := g.shown(m.secret)
	assert.Empty(t, bad)
	assert.Equal(t, api.Who{TokenID: m.ID, Root: m.ID, Name: "CI", Owner: "tern", Role: api.Runner, Rights: api.InLab(api.Runner),
		Expires: who.Expires}, who)
	_, bad = g.shown(m.secret + "x")
	assert.Equal(t, api.Unauthorized, bad)
	_, err := g.DropToken(t.Context(), lord, m.ID)
	require.NoError(t, err)
	_, bad = g.shown(m.secret)
	assert.Equal(t, api.Unauthorized, bad, "a dropped token is forgotten at once")
	_, err = g.DropToken(t.Context(), lord, m.ID)
	assert.Equal(t, api.NotFound, kindOf(err))
	all, err := g.Tokens(t.Context(), lord)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestATokenExpires(t *testing.T) {
	g := open(t)
	until := g.now.Add(time.Hour)
	m := g.make(api.TokenRequest{Name: "guest", Role: api.Viewer, ExpiresAt: &until})
	who, bad := g.shown(m.secret)
	require.Empty(t, bad)
	ended, done := g.Hold(who)
	defer done()
	g.endHeld()
	assertOpen(t, ended)
	g.now = until
	_, bad = g.shown(m.secret)
	assert.Equal(t, api.Unauthorized, bad, "though it was looked up a moment ago")
	g.endHeld()
	assertClosed(t, ended)
	late, done := g.Hold(who)
	defer done()
	assertClosed(t, late)
}

// A token that is dropped while somebody comes in with it is good for nobody
// afterwards.
func TestATokenThatIsDroppedWhileItIsShown(t *testing.T) {
	g := open(t)
	for range 100 {
		m := g.make(api.TokenRequest{Name: "tern", Role: api.Viewer})
		var both sync.WaitGroup
		for range 4 {
			both.Go(func() { _, _ = g.Authenticate(t.Context(), m.secret, "") })
		}
		both.Go(func() { _, err := g.DropToken(t.Context(), lord, m.ID); assert.NoError(t, err) })
		both.Wait()
		_, bad := g.shown(m.secret)
		require.Equal(t, api.Unauthorized, bad)
	}
}

func TestTokensThatAreNone(t *testing.T) {
	g := open(t)
	past, far := g.now.Add(-time.Second), g.now.Add(11*usualLife)
	for name, q := range map[string]api.TokenRequest{
		"no name":                      {Role: api.Viewer},
		"a blank name":                 {Name: "  ", Role: api.Viewer},
		"a long name":                  {Name: strings.Repeat("n", 65), Role: api.Viewer},
		"a name with a bell":           {Name: "tern\a", Role: api.Viewer},
		"no role":                      {Name: "tern"},
		"an unknown role":              {Name: "tern", Role: "captain"},
		"a role and rights":            {Name: "tern", Role: api.Viewer, Rights: api.InLab(api.Viewer)},
		"a project that is none":       {Name: "tern", Rights: []api.Right{{Project: "a b", Role: api.Viewer}}},
		"an agent and more":            {Name: "tern", Rights: []api.Right{{Project: "*", Role: api.AgentRole}, {Project: "*", Role: api.Admin}}},
		"an agent of a project":        {Name: "tern", Rights: []api.Right{{Project: "quay", Role: api.AgentRole}}},
		"an agent's name for no agent": {Name: "tern", Role: api.Viewer, Agent: "quay"},
		"an agent's name that is none": {Name: "tern", Role: api.AgentRole, Agent: "a/b"},
		"over already":                 {Name: "tern", Role: api.Viewer, ExpiresAt: &past},
		"almost for ever":              {Name: "tern", Role: api.Viewer, ExpiresAt: &far},
		"a thousand rights":            {Name: "tern", Rights: make([]api.Right, 1000)},
	} {
		_, _, err := g.AddToken(t.Context(), q)
		assert.Equal(t, api.Invalid, kindOf(err), name)
	}
}

// Whatever was made from a token ends with it.
func TestWhatIsMadeFromATokenEndsWithIt(t *testing.T) {
	g := open(t)
	m := g.make(api.TokenRequest{Name: "ada", Role: api.Keeper})
	who, _ := g.shown(m.secret)
	_, console, err := g.SignIn(t.Context(), m.secret, "10.0.0.8")
	require.NoError(t, err)
	inside, bad := g.shown(console)
	require.Empty(t, bad)
	assert.Equal(t, []any{m.ID, "ada", api.Keeper}, []any{inside.Root, inside.Person(), inside.Role})
	code, err := g.SignInCode(inside)
	require.NoError(t, err)
	_, second, err := g.SignIn(t.Context(), console, "10.0.0.8")
	require.NoError(t, err)
	stream, done := g.Hold(inside)
	defer done()
	link, done2 := g.Hold(who)
	defer done2()
	other, done3 := g.Hold(api.Who{TokenID: "x", Root: "x", Expires: who.Expires})
	defer done3()

	_, err = g.DropToken(t.Context(), lord, m.ID)
	require.NoError(t, err)
	for _, secret := range []string{m.secret, console, second} {
		_, bad := g.shown(secret)
		assert.Equal(t, api.Unauthorized, bad)
	}
	_, _, err = g.UseCode(t.Context(), code, "")
	assert.Equal(t, api.Unauthorized, kindOf(err))
	assertClosed(t, stream)
	assertClosed(t, link)
	assertOpen(t, other)
	all, err := g.Tokens(t.Context(), lord)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func assertOpen(t *testing.T, c <-chan struct{}) {
	t.Helper()
	select {
	case <-c:
		assert.Fail(t, "it has ended")
	default:
	}
}

func assertClosed(t *testing.T, c <-chan struct{}) {
	t.Helper()
	select {
	case <-c:
	default:
		assert.Fail(t, "it goes on")
	}
}

func TestASignInCodeIsGoodOnce(t *testing.T) {
	g := open(t)
	m := g.make(api.TokenRequest{Name: "ada", Role: api.Admin})
	ada, _ := g.shown(m.secret)
	code, err := g.SignInCode(ada)
	require.NoError(t, err)
	late, err := g.SignInCode(ada)
	require.NoError(t, err)
	_, secret, err := g.UseCode(t.Context(), code, "10.0.0.9")
	require.NoError(t, err)
	in, bad := g.shown(secret)
	require.Empty(t, bad)
	assert.Equal(t, []string{"ada", string(api.Admin)}, []string{in.Person(), string(in.Role)})
	_, _, err = g.UseCode(t.Context(), code, "10.0.0.9")
	assert.Equal(t, api.Unauthorized, kindOf(err), "used already")
	g.now = g.now.Add(codeLife + time.Second)
	_, _, err = g.UseCode(t.Context(), late, "10.0.0.9")
	assert.Equal(t, api.Unauthorized, kindOf(err), "too old")
	for range maxCodes {
		_, err = g.SignInCode(ada)
		require.NoError(t, err)
	}
	_, err = g.SignInCode(ada)
	assert.Equal(t, api.Conflict, kindOf(err), "one too many")
}

// A console session ends when nothing is done in it for half a day, and after a month
// at the latest; a token has twenty, of which that used longest ago gives way.
func TestConsoleSessionsEnd(t *testing.T) {
	g := open(t)
	m := g.make(api.TokenRequest{Name: "ada", Role: api.Viewer})
	enter := func() string {
		_, secret, err := g.SignIn(t.Context(), m.secret, "10.0.0.8")
		require.NoError(t, err)
		return secret
	}
	idle, busy := enter(), enter()
	begun := g.now
	for g.now.Sub(begun) < consoleLife-11*time.Hour {
		g.now = g.now.Add(11 * time.Hour)
		if g.now.Sub(begun) < consoleLife {
			_, bad := g.shown(busy)
			require.Empty(t, bad, g.now.Sub(begun))
		}
		require.NoError(t, g.tidy())
	}
	_, bad := g.shown(idle)
	assert.Equal(t, api.Unauthorized, bad)
	g.now = begun.Add(consoleLife)
	_, bad = g.shown(busy)
	assert.Equal(t, api.Unauthorized, bad)

	var all []string
	for range maxConsoles {
		all = append(all, enter())
		g.now = g.now.Add(time.Minute)
	}
	_, bad = g.shown(all[0])
	require.Empty(t, bad)
	g.now = g.now.Add(time.Minute)
	all = append(all, enter())
	for i, secret := range all {
		_, bad := g.shown(secret)
		assert.Equal(t, i == 1, bad != "", "session %d: the first was used after the second", i)
	}
}

// The last use of a token is shown at once and outlives the service.
func TestTheLastUseIsShown(t *testing.T) {
	g := open(t)
	m := g.make(api.TokenRequest{Name: "ada", Role: api.Admin})
	used := func() *api.Token {
		all, err := g.Tokens(t.Context(), lord)
		require.NoError(t, err)
		return &all[0]
	}
	assert.Nil(t, used().UsedAt)
	g.now = g.now.Add(time.Hour)
	_, bad := g.shown(m.secret)
	require.Empty(t, bad)
	for range 2 {
		assert.Equal(t, []any{g.now, "10.0.0.7"}, []any{*used().UsedAt, used().UsedFrom})
		require.NoError(t, g.note())
	}
}

// People see and drop tokens of their own; of others they do not know that there are
// any.
func TestWhoMindsTokens(t *testing.T) {
	g := open(t)
	mine, other := g.make(api.TokenRequest{Name: "ada", Role: api.Viewer}), g.make(api.TokenRequest{Name: "tern", Role: api.Viewer})
	ada, _ := g.shown(mine.secret)
	all, err := g.Tokens(t.Context(), ada)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, mine.ID, all[0].ID)
	_, err = g.DropToken(t.Context(), ada, other.ID)
	assert.Equal(t, api.NotFound, kindOf(err))
	_, err = g.DropToken(t.Context(), ada, mine.ID)
	assert.NoError(t, err)
}

// An agent's token belongs to the first that joins with it; nobody else's agent takes
// a name that another has.
func TestATokenBelongsToOneAgent(t *testing.T) {
	g := open(t)
	free, named := g.make(api.TokenRequest{Name: "a", Role: api.AgentRole}), g.make(api.TokenRequest{Name: "b", Role: api.AgentRole,
		Agent: "quay-2", Pool: "saltmarsh"})
	bind := func(m made, agent, pool string) api.Kind {
		who, bad := g.shown(m.secret)
		require.Empty(t, bad)
		return kindOf(g.Bind(who, agent, pool))
	}
	assert.Equal(t, api.Forbidden, bind(free, "quay-2", "saltmarsh"), "another token's")
	assert.Empty(t, bind(free, "quay-1", ""))
	assert.Empty(t, bind(free, "quay-1", "shared"), "again")
	assert.Equal(t, api.Forbidden, bind(free, "quay-3", ""))
	assert.Equal(t, api.Forbidden, bind(free, "quay-1", "saltmarsh"))
	assert.Equal(t, api.Forbidden, bind(named, "quay-1", "saltmarsh"))
	assert.Equal(t, api.Forbidden, bind(named, "quay-2", ""))
	assert.Empty(t, bind(named, "quay-2", "saltmarsh"))
	who, _ := g.shown(free.secret)
	assert.Equal(t, []string{"quay-1", "shared"}, []string{who.Agent, who.Pool})

	fresh := g.make(api.TokenRequest{Name: "c", Role: api.AgentRole})
	var both sync.WaitGroup
	kinds := make([]api.Kind, 8)
	who, _ = g.shown(fresh.secret)
	for i := range kinds {
		both.Go(func() { kinds[i] = kindOf(g.Bind(who, fmt.Sprintf("gull-%d", i), "")) })
	}
	both.Wait()
	won := 0
	for _, k := range kinds {
		if k == "" {
			won++
		}
	}
	assert.Equal(t, 1, won, "of many at the same time, one")
}

// The first start leaves an admin's and an agent's token for the programs of this
// machine, which nobody else may read; later ones leave what there is alone, unless no
// admin's is good any more. An agent's token opens no console.
func TestFirstTokens(t *testing.T) {
	g, dir := open(t), t.TempDir()
	require.NoError(t, g.FirstTokens(t.Context(), dir))
	secrets := map[api.Role]string{}
	for file, role := range map[string]api.Role{AdminTokenFile: api.Admin, AgentTokenFile: api.AgentRole} {
		path := filepath.Join(dir, file)
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		secrets[role] = strings.TrimSpace(string(raw))
		who, bad := g.shown(secrets[role])
		require.Empty(t, bad)
		assert.Equal(t, role, who.Role)
	}
	require.NoError(t, g.FirstTokens(t.Context(), dir))
	all, err := g.Tokens(t.Context(), lord)
	require.NoError(t, err)
	assert.Len(t, all, 2)
	_, _, err = g.SignIn(t.Context(), secrets[api.AgentRole], "")
	assert.Equal(t, api.Forbidden, kindOf(err))

	g.now = g.now.Add(usualLife)
	require.NoError(t, g.FirstTokens(t.Context(), dir))
	raw, err := os.ReadFile(filepath.Join(dir, AdminTokenFile))
	require.NoError(t, err)
	who, bad := g.shown(strings.TrimSpace(string(raw)))
	assert.Empty(t, bad, "nobody is locked out of a lab whose tokens have all expired")
	assert.Equal(t, api.Admin, who.Role)
}

// What is done is on record with what changed; strangers fill the record within bounds.
func TestTheAudit(t *testing.T) {
	g := open(t)
	g.Record(api.Deed{Who: "ada", Token: "CI", From: "10.0.0.7", Act: "quota set", Target: "project saltmarsh", Before: 1,
		After: map[string]int{"slots": 2}})
	g.Record(api.Deed{Who: "tern", Act: "cancel", Target: "12", Project: "saltmarsh", Refused: "it needs more"})
	g.Record(api.Deed{Who: "tern", Act: "again", Project: "marina", After: strings.Repeat("x", maxAuditJSON)})
	for range 3 * maxStrangers {
		g.Record(api.Deed{Act: "sign in", From: "10.0.0.66", Refused: "no"})
	}
	list := func(f api.AuditFilter, among []string) []string {
		require.NoError(t, g.store.Sync())
		all, err := g.Audit(t.Context(), f, among)
		require.NoError(t, err)
		out := []string{}
		for _, e := range all {
			out = append(out, e.Who+" "+e.Act+" "+string(e.Before)+" "+string(e.After))
		}
		return out
	}
	assert.Len(t, list(api.AuditFilter{Act: "sign in", Limit: 1000}, nil), maxStrangers)
	assert.Equal(t, []string{`ada quota set 1 {"slots":2}`}, list(api.AuditFilter{Text: "slots"}, nil))
	assert.Equal(t, []string{"tern cancel  "}, list(api.AuditFilter{Who: "tern", Refused: "yes"}, nil))
	assert.Equal(t, []string{"tern cancel  "}, list(api.AuditFilter{}, []string{"saltmarsh"}))
	assert.Empty(t, list(api.AuditFilter{Until: "2026-03-01"}, nil))
	big, err := g.Audit(t.Context(), api.AuditFilter{Act: "again"}, nil)
	require.NoError(t, err)
	assert.Less(t, len(big[0].After), maxAuditJSON)
	g.now = g.now.Add(2 * time.Minute)
	g.Record(api.Deed{Act: "sign in", From: "10.0.0.66", Refused: "no"})
	assert.Len(t, list(api.AuditFilter{Act: "sign in", Limit: 1000}, nil), maxStrangers+1)
	g.now = g.now.Add(auditLife + time.Second)
	require.NoError(t, g.tidy())
	assert.Empty(t, list(api.AuditFilter{}, nil))
}
