package standins

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/demo"
)

func TestTheDemosFleet(t *testing.T) {
	f, err := Parse("fleet.yaml", demo.Fleet)
	require.NoError(t, err)
	configs, err := f.Configs("http://lab.example", secretOf, "1", t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.Len(t, configs, 12)
	names := map[string]bool{}
	for _, c := range configs {
		names[c.Name] = true
		require.True(t, c.Machine.StandIn, c.Name)
		facts := c.Machine.Facts(c.Name)
		assert.NotEmpty(t, facts["browser"], c.Name)
		for _, real := range []string{"chromium", "firefox", "webkitgtk"} {
			assert.NotContains(t, facts["browser"], real)
		}
		for _, b := range c.Machine.Browsers {
			assert.True(t, b.Fits)
			assert.Equal(t, "standin", b.Engine)
		}
	}
	assert.True(t, names["gull-1"] && names["gull-4"] && names["bittern"])
	assert.Equal(t, "marshos 11", configs[4].Machine.OSVersion)
	assert.Equal(t, "tidal-office", configs[11].Pool)
}

func TestBadFleets(t *testing.T) {
	for src, want := range map[string]string{
		``:                             "expected agents",
		`agents: []`:                   "expected agents",
		`agents: 3`:                    "cannot unmarshal",
		`agents: [{name: a, boat: 1}]`: "field boat not found",
		`agents: [{browsers: {k: 1}}]`: "the name is missing",
		`agents: [{name: a}]`:          "expected browsers",
		`agents: [{name: a, browsers: {k: 1}}, {name: a, browsers: {k: 1}}]`: "taken",
		`agents: [{name: a, slots: -1, browsers: {k: 1}}]`:                   "may not be negative",
		`agents: [{name: a, browsers: {chromium: 1}}]`:                       "chromium is a real browser",
		`agents: [{name: a, browsers: {k: latest}}]`:                         `"latest" is not a version`,
		`agents: [{name: a, browsers: {k: {}}}]`:                             "cannot unmarshal",
		`agents: [{name: a, browsers: {k: 1}, faults: {crash: 2}}]`:          "probabilities",
		`agents: [{name: a, count: 9000, browsers: {k: 1}}]`:                 "more than 5000",
	} {
		_, err := Parse("fleet.yaml", []byte(src))
		assert.ErrorContains(t, err, want, src)
		assert.ErrorContains(t, err, "fleet.yaml", src)
	}
	_, err := Parse("fleet.yaml", make([]byte, MaxBytes+1))
	assert.ErrorContains(t, err, "larger than")
}

func TestARefusedStandInEndsAll(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusConflict)
		_, _ = w.Write([]byte(`{"detail":"another agent named gull is online"}`))
	}))
	defer srv.Close()
	f, err := Parse("fleet.yaml", []byte(`agents: [{name: gull, count: 3, browsers: {kestrel: 12.1}}]`))
	require.NoError(t, err)
	configs, err := f.Configs(srv.URL, secretOf, "1", t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	err = Run(t.Context(), configs)
	assert.ErrorContains(t, err, "another agent named gull is online")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.NoError(t, Run(ctx, configs), "being stopped is no error")
}

func secretOf(agent, _ string) (string, error) { return "secret of " + agent, nil }
