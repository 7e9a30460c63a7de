package sessions

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
)

// Every engine's way to a site can be slowed and switched off, Chromium's processor be
// slowed; what cannot be is said.
func TestASlowDevice(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte("<!doctype html><title>Harbour</title>"))
	}))
	defer site.Close()
	plain, err := device.Find("")
	require.NoError(t, err)
	profile, err := plain.With(map[string]string{"network": "delay=5", "cpu": "4"})
	require.NoError(t, err)
	for family, f := range map[string]engine.Family{"chromium": chromium.Family{}, "gecko": gecko.Family{}, "webkit": webkit.Family{},
		"wpe": webkit.WPE{}} {
		t.Run(family, func(t *testing.T) {
			h, err := NewHost(filepath.Join(t.TempDir(), "sessions"), slog.New(slog.DiscardHandler), f)
			require.NoError(t, err)
			s, err := h.Open(t.Context(), Request{Browser: conformance.Browser(t, f), Device: profile})
			require.NoError(t, err)
			t.Cleanup(s.Close)
			assert.Contains(t, s.Outcome.Applied, "network delay=5")
			if slow := "processor 4 times slower"; family == "chromium" {
				assert.Contains(t, s.Outcome.Applied, slow)
			} else {
				assert.Contains(t, s.Outcome.Missing, device.Missing{Feature: slow, Reason: "the engine has no command for it"})
			}
			require.NoError(t, s.Navigate(t.Context(), site.URL))
			const asked = `const done = arguments[arguments.length - 1]; fetch("/?" + Math.random()).then(() => done("there"), () => done("gone"))`
			fetched := func() (what string) {
				require.NoError(t, s.ExecuteAsync(t.Context(), asked, &what))
				return what
			}
			assert.Equal(t, "there", fetched())
			require.NoError(t, s.Shape(traffic.Shape{Off: true}))
			assert.Equal(t, "gone", fetched())
			require.ErrorIs(t, s.Reach(t.Context(), site.URL), traffic.ErrOff)
			require.NoError(t, s.Shape(traffic.Shape{}))
			assert.Equal(t, "there", fetched())
			require.NoError(t, s.Shape(traffic.Shape{Off: true}))
			require.NoError(t, s.Reset(t.Context()), "the next test finds the network as it should be")
			require.NoError(t, s.Navigate(t.Context(), site.URL))
			assert.Equal(t, "there", fetched())
		})
	}
}
