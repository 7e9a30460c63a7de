package sessions

import (
	"log/slog"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
)

// What a device's owner prefers is what its pages are told, or it is said to be missing.
func TestPagesAreToldWhatTheOwnerPrefers(t *testing.T) {
	plain, err := device.Find("")
	require.NoError(t, err)
	for name, values := range map[string]map[string]string{
		"dark":  {"scheme": "dark", "motion": "reduced", "contrast": "more", "colours": "forced"},
		"light": {"scheme": "light", "motion": "full", "contrast": "usual", "colours": "own"},
	} {
		profile, err := plain.With(values)
		require.NoError(t, err)
		for family, f := range map[string]engine.Family{"chromium": chromium.Family{}, "gecko": gecko.Family{}, "webkit": webkit.Family{},
			"wpe": webkit.WPE{}} {
			t.Run(family+"/"+name, func(t *testing.T) {
				h, err := NewHost(filepath.Join(t.TempDir(), "sessions"), slog.New(slog.DiscardHandler), f)
				require.NoError(t, err)
				s, err := h.Open(t.Context(), Request{Browser: conformance.Browser(t, f), Device: profile})
				require.NoError(t, err)
				t.Cleanup(s.Close)
				require.NoError(t, s.Navigate(t.Context(), "about:blank"))
				missing := map[string]bool{}
				for _, m := range s.Outcome.Missing {
					missing[m.Feature] = true
				}
				told := 0
				for _, w := range profile.Wishes() {
					if missing[w.String()] {
						continue
					}
					assert.Contains(t, s.Outcome.Applied, w.String())
					var is bool
					require.NoError(t, s.Execute(t.Context(), "return matchMedia('(' + arguments[0] + ': ' + arguments[1] + ')').matches", &is, w.Feature,
						w.Query))
					assert.True(t, is, "%s", w)
					told++
				}
				assert.GreaterOrEqual(t, told, map[string]int{"chromium": 4, "gecko": 2, "webkit": 1}[family])
			})
		}
	}
}
