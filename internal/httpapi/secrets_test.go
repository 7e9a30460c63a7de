package httpapi_test

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
)

// Secrets of a run reach its agent, and nobody else; with its end they are erased, and
// running it again takes them anew.
func TestSecretsGoWithTheirRun(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	const secret = "tidewater-4711"
	run := x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}, Secrets: map[string]string{"PIN": secret}})
	for range run.Panes {
		s := h.next()
		assert.Equal(t, secret, s.Secrets["PIN"])
		h.result(s, 0, verdict.Failed)
	}
	x.ended(run.Number)
	again := fmt.Sprintf("/runs/%d/again", run.Number)
	x.refused(409, "give PIN again, with pane again 1 --secret PIN", "POST", again, api.AgainRequest{})
	var second api.Run
	x.post(again, api.AgainRequest{Secrets: map[string]string{"PIN": secret}}, &second)
	assert.Equal(t, secret, h.next().Secrets["PIN"])
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(x.dir, "pane.db")+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	kept := 0
	require.NoError(t, db.Get(&kept, `SELECT count(*) FROM runs WHERE secrets IS NOT NULL`))
	assert.Equal(t, 1, kept, "those of the one which goes on")
	for _, name := range []string{"pane.db", "pane.db-wal"} {
		raw, err := os.ReadFile(filepath.Join(x.dir, name))
		if err == nil {
			assert.NotContains(t, string(raw), secret)
		}
	}
}

// What is said of a session afterwards shows no secret of it either; nor do its names.
func TestLateWordsShowNoSecret(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	const secret = "tidewater-4711"
	opened := x.asking(`{"name":"as ` + secret + `","test":"T ` + secret + `","run":"R ` + secret + `","tags":["` +
		secret + `"],"secrets":{"PIN":"` +
		secret + `"}}`)
	o := h.nextOrder()
	assert.NotContains(t, o.Name, secret)
	stop := h.beat(o.Fence)
	o.answer <- link.SessionOpen{Given: map[string]any{}, Browser: "chromium", Version: "9"}
	require.Equal(t, 200, (<-opened).status)
	r := link.Result{ID: o.ID, Fence: o.Fence, Attempt: 1, Verdict: verdict.Failed, Message: "typed " + secret, StartedAt: 1, TookMS: 1}
	r.ID = r.ID[:len(r.ID)-2] + "00"
	a := x.do("POST", "/api/v1/agent/results", x.agent, r)
	stop()
	require.Contains(t, string(a.body), `"accepted":true`)
	x.post("/sessions/"+o.ID+"/verdict", map[string]any{"verdict": "failed", "message": "it was " + secret}, nil)
	x.post("/sessions/"+o.ID+"/note", map[string]any{"note": "see " + base64.StdEncoding.EncodeToString([]byte("pin:"+secret))}, nil)
	for _, path := range []string{"/sessions/" + o.ID, "/sessions", "/runs", "/runs/1", "/audit"} {
		body := string(x.do("GET", "/api/v1"+path, x.token, nil).body)
		assert.NotContains(t, body, secret, path)
		assert.NotContains(t, body, "V3YXRlci00Nz", path)
	}
	var s api.Session
	x.get("/sessions/"+o.ID, &s)
	assert.Equal(t, "it was •••", s.Message)
	assert.Contains(t, s.Note, "•••")
	assert.NotContains(t, s.Note, "NzEx")
}

// Who uses a kept secret, who writes it and who reads it are told apart; what was done is
// on record, without a value.
func TestKeptSecretsAndWhoMayWhat(t *testing.T) {
	x := start(t, t.TempDir())
	const secret = "kedge-anchor-4711"
	roles := map[api.Role]string{}
	for _, r := range []api.Role{api.Viewer, api.Runner, api.Keeper, api.Admin} {
		roles[r] = x.as(string(r)+"-tern", in("saltmarsh", r))
	}
	outside := x.as("outsider", in("marina", api.Admin))
	const at = "/api/v1/projects/saltmarsh/secrets"
	allowed := func(method, path string, body any, least api.Role) {
		for _, r := range api.Roles[:4] {
			a := x.do(method, path, roles[r], body)
			if !r.Allows(least) {
				assert.Equal(t, 403, a.status, "%s %s as %s", method, path, r)
				assert.NotContains(t, string(a.body), secret)
			} else {
				assert.Less(t, a.status, 300, "%s %s as %s: %s", method, path, r, a.body)
			}
		}
		assert.Equal(t, 404, x.do(method, path, outside, body).status)
	}
	allowed("POST", at, api.SecretRequest{Name: "PIN", Value: secret}, api.Keeper)
	allowed("GET", at+"?text=pin", nil, api.Runner)
	allowed("POST", at+"/read", api.SecretName{Name: "PIN"}, api.Admin)
	assert.NotContains(t, string(x.do("GET", at, roles[api.Admin], nil).body), secret)
	assert.Contains(t, string(x.do("POST", at+"/read", roles[api.Admin], api.SecretName{Name: "PIN"}).body), secret)
	assert.Equal(t, "[]", string(x.do("GET", at+"?text=password", roles[api.Runner], nil).body))
	audit := ""
	require.Eventually(t, func() bool {
		audit = string(x.do("GET", "/api/v1/audit", x.token, nil).body)
		return strings.Contains(audit, "secret read")
	}, 10*time.Second, 20*time.Millisecond)
	assert.NotContains(t, audit, secret)
	assert.Equal(t, 204, x.do("DELETE", at+"/PIN", roles[api.Keeper], nil).status)
	assert.Equal(t, 404, x.do("DELETE", at+"/PIN", roles[api.Keeper], nil).status)
	assert.Equal(t, 403, x.do("DELETE", at+"/PIN", roles[api.Runner], nil).status)
	for _, name := range []string{"pane.db", "pane.db-wal"} {
		raw, err := os.ReadFile(filepath.Join(x.dir, name))
		if err == nil {
			assert.NotContains(t, string(raw), secret)
		}
	}
}
