package access

import (
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
	now time.Time
}

func open(t *testing.T) *gate {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	g := &gate{now: time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)}
	g.Access = New(st, func() time.Time { return g.now })
	return g
}

func kindOf(err error) api.Kind {
	var e *api.Error
	if err == nil || !assert.ErrorAs(new(testing.T), err, &e) {
		return ""
	}
	return e.Kind
}

func TestATokenIsGoodUntilItIsDropped(t *testing.T) {
	g := open(t)
	made, secret, err := g.AddToken("  tern ", api.Runner)
	require.NoError(t, err)
	assert.Equal(t, "tern", made.Name)
	who, err := g.Authenticate(t.Context(), secret)
	require.NoError(t, err)
	assert.Equal(t, api.Who{TokenID: made.ID, Name: "tern", Role: api.Runner}, who)
	_, err = g.Authenticate(t.Context(), secret+"x")
	assert.Equal(t, api.Unauthorized, kindOf(err))
	require.NoError(t, g.DropToken(made.ID))
	_, err = g.Authenticate(t.Context(), secret)
	assert.Equal(t, api.Unauthorized, kindOf(err), "a dropped token is forgotten at once")
	assert.Equal(t, api.NotFound, kindOf(g.DropToken(made.ID)))
	all, err := g.Tokens(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
}

// A token that is dropped while somebody comes in with it is good for nobody
// afterwards.
func TestATokenThatIsDroppedWhileItIsShown(t *testing.T) {
	g := open(t)
	for range 100 {
		made, secret, err := g.AddToken("tern", api.Viewer)
		require.NoError(t, err)
		var both sync.WaitGroup
		for range 4 {
			both.Go(func() { _, _ = g.Authenticate(t.Context(), secret) })
		}
		both.Go(func() { assert.NoError(t, g.DropToken(made.ID)) })
		both.Wait()
		_, err = g.Authenticate(t.Context(), secret)
		require.Equal(t, api.Unauthorized, kindOf(err))
	}
}

func TestTokensThatAreNone(t *testing.T) {
	g := open(t)
	for name, role := range map[string]api.Role{"": api.Viewer, "   ": api.Viewer, strings.Repeat("n", 65): api.Viewer, "tern": "captain"} {
		_, _, err := g.AddToken(name, role)
		assert.Equal(t, api.Invalid, kindOf(err), "%q %q", name, role)
	}
}

func TestASignInCodeIsGoodOnce(t *testing.T) {
	g := open(t)
	ada := api.Who{Name: "ada", Role: api.Admin}
	code, late := g.SignInCode(ada), g.SignInCode(ada)
	who, secret, err := g.UseCode(code)
	require.NoError(t, err)
	assert.Equal(t, ada, who)
	in, err := g.Authenticate(t.Context(), secret)
	require.NoError(t, err)
	assert.Equal(t, []string{"ada" + api.ConsoleSuffix, string(api.Admin)}, []string{in.Name, string(in.Role)})
	_, _, err = g.UseCode(code)
	assert.Equal(t, api.Unauthorized, kindOf(err), "used already")
	g.now = g.now.Add(codeLife + time.Second)
	_, _, err = g.UseCode(late)
	assert.Equal(t, api.Unauthorized, kindOf(err), "too old")

	_, again, err := g.SignIn(t.Context(), secret)
	require.NoError(t, err)
	in, err = g.Authenticate(t.Context(), again)
	require.NoError(t, err)
	assert.Equal(t, "ada"+api.ConsoleSuffix, in.Name, "a name does not grow with every sign-in")
}

// The first start leaves an admin's and an agent's token for the programs of this
// machine, which nobody else may read; later ones leave what there is alone. An
// agent's token opens no console.
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
		who, err := g.Authenticate(t.Context(), secrets[role])
		require.NoError(t, err)
		assert.Equal(t, role, who.Role)
	}
	require.NoError(t, g.FirstTokens(t.Context(), dir))
	all, err := g.Tokens(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 2)
	_, _, err = g.SignIn(t.Context(), secrets[api.AgentRole])
	assert.Equal(t, api.Forbidden, kindOf(err))
}
