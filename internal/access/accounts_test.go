package access

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
)

// signs signs somebody in as a provider says who they are.
func (g *gate) signs(subject string, c claims) (api.Who, string, error) {
	return g.enterAccount(g.t.Context(), "https://id.example", subject, c, "10.0.0.7")
}

func TestSomebodyIsKnownByWhatTheirProviderCallsThem(t *testing.T) {
	g := open(t)
	g.UseProvider(Provider{Issuer: "https://id.example", Client: "pane", Name: "the office"})
	tern, err := g.AddAccount(t.Context(), lord, api.AccountRequest{Name: "tern", Mail: "tern@saltmarsh.example", Role: api.Runner})
	require.NoError(t, err)
	mail := claims{Email: "TERN@saltmarsh.example", Verified: true}
	_, _, err = g.signs("one", claims{Email: mail.Email})
	assert.Equal(t, api.Forbidden, kindOf(err), "anybody may say that the address is theirs")
	who, secret, err := g.signs("one", mail)
	require.NoError(t, err)
	assert.Equal(t, "tern", who.Owner)
	_, kind := g.shown(secret)
	assert.Empty(t, kind)
	_, _, err = g.signs("two", mail)
	assert.Equal(t, api.Forbidden, kindOf(err), "the account is somebody's by now")
	who, _, err = g.signs("one", claims{Email: "okafor@elsewhere.example", Verified: true})
	require.NoError(t, err)
	assert.Equal(t, "tern", who.Owner, "whatever their address is")

	// Another address may be somebody else's: who signs in with it is asked anew.
	_, is, err := g.ChangeAccount(t.Context(), tern.ID, api.AccountRequest{Mail: "okafor@saltmarsh.example"})
	require.NoError(t, err)
	assert.False(t, is.SignsIn)
	assert.Equal(t, api.InLab(api.Runner), is.Rights, "what is not said stays")
	_, kind = g.shown(secret)
	assert.Equal(t, api.Unauthorized, kind)
	_, _, err = g.signs("one", mail)
	assert.Equal(t, api.Forbidden, kindOf(err))
	_, secret, err = g.signs("two", claims{Email: "okafor@saltmarsh.example", Verified: true})
	require.NoError(t, err)
	g.now = g.now.Add(consoleIdle + time.Minute)
	_, kind = g.shown(secret)
	assert.Equal(t, api.Unauthorized, kind, "a console session that nobody used")
	for _, q := range []api.AccountRequest{{Name: "other"}, {Mail: "no address"}, {Role: "king"}} {
		_, _, err := g.ChangeAccount(t.Context(), tern.ID, q)
		assert.Equal(t, api.Invalid, kindOf(err), q)
	}
	_, _, err = g.ChangeAccount(t.Context(), "nobody", api.AccountRequest{Role: api.Viewer})
	assert.Equal(t, api.NotFound, kindOf(err))
}

func TestAnAccountGoesWithItsTokens(t *testing.T) {
	g := open(t)
	acc, err := g.AddAccount(t.Context(), lord, api.AccountRequest{Name: "tern", Role: api.Admin})
	require.NoError(t, err)
	mine := g.make(api.TokenRequest{Name: "laptop", Owner: "tern", Role: api.Admin})
	_, err = g.DropAccount(t.Context(), acc.ID)
	assert.Equal(t, api.Conflict, kindOf(err), "nobody would be left to mind the lab")
	other := g.make(api.TokenRequest{Name: "lord", Role: api.Admin})
	ended, done := g.Hold(api.Who{TokenID: mine.ID, Root: mine.ID, Expires: g.now.Add(time.Hour)})
	defer done()
	_, err = g.DropAccount(t.Context(), acc.ID)
	require.NoError(t, err)
	select {
	case <-ended:
	default:
		assert.Fail(t, "what was held open under the token goes on")
	}
	_, kind := g.shown(mine.secret)
	assert.Equal(t, api.Unauthorized, kind)
	_, kind = g.shown(other.secret)
	assert.Empty(t, kind)
	_, err = g.DropAccount(t.Context(), acc.ID)
	assert.Equal(t, api.NotFound, kindOf(err))
	none, err := g.MyAccount(t.Context(), api.Who{Name: "tern"})
	require.NoError(t, err)
	assert.Nil(t, none)
	assert.Equal(t, api.Conflict, kindOf(g.HearMentions(t.Context(), api.Who{Name: "tern"}, true)))
}

func TestProvidersThatAreNone(t *testing.T) {
	for issuer, good := range map[string]bool{"https://id.example": true, "http://127.0.0.1:7485": true, "http://localhost": true,
		"http://id.example": false,
		"id.example":        false, "https://tern:pw@id.example": false, "": false} {
		assert.Equal(t, good, Provider{Issuer: issuer, Client: "pane"}.Check() == nil, issuer)
	}
	assert.ErrorContains(t, Provider{Issuer: "https://id.example"}.Check(), "--sign-in-client")
	g := open(t)
	_, _, err := g.BeginSignIn(t.Context(), "10.0.0.7")
	assert.Equal(t, api.NotFound, kindOf(err))
	g.UseProvider(Provider{Issuer: "http://127.0.0.1:1", Client: "pane", Name: "the office"})
	assert.Equal(t, "the office", g.SignInWays().Provider)
	_, _, err = g.BeginSignIn(t.Context(), "10.0.0.7")
	assert.Equal(t, api.Beyond, kindOf(err), "it is down")
	_, _, err = g.EndSignIn(t.Context(), "made up", "code", "10.0.0.7")
	assert.Equal(t, api.Unauthorized, kindOf(err))
}
