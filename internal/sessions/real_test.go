package sessions

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/webdriver"
)

// What an engine says it has emulated a page can see, and a session that was
// reset carries nothing over.
func TestRealEnginesDoWhatTheySay(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte("<!doctype html><title>Quay</title>"))
	}))
	defer site.Close()
	for _, f := range []engine.Family{chromium.Family{}, gecko.Family{}, webkit.Family{}} {
		t.Run(f.Name(), func(t *testing.T) {
			b := conformance.Browser(t, f)
			h, err := NewHost(filepath.Join(t.TempDir(), "sessions"), slog.New(slog.DiscardHandler), f)
			require.NoError(t, err)
			base, err := device.Find("tablet-landscape")
			require.NoError(t, err)
			profile, err := base.With(map[string]string{"viewport": "1024x700", "locale": "nb-NO", "timezone": "America/St_Johns"})
			require.NoError(t, err)
			s, err := h.Open(t.Context(), Request{Browser: b, Device: profile})
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, s.Navigate(t.Context(), site.URL))
			var seen struct {
				Language, Zone string
				Width          float64
			}
			require.NoError(t, s.Execute(t.Context(),
				`document.cookie = "boat=osprey"; return {language: navigator.language,
					zone: Intl.DateTimeFormat().resolvedOptions().timeZone, width: innerWidth}`, &seen))
			for feature, ok := range map[string]bool{
				"locale nb-NO": strings.HasPrefix(seen.Language, "nb"), "time zone America/St_Johns": seen.Zone == "America/St_Johns",
				"viewport 1024×700": seen.Width == 1024,
			} {
				for _, applied := range s.Outcome.Applied {
					if applied == feature {
						assert.True(t, ok, "%s is said to be applied; the page sees %+v", feature, seen)
					}
				}
				if f.Name() != "webkit" || !strings.HasPrefix(feature, "locale") {
					assert.Contains(t, s.Outcome.Applied, feature)
				}
			}
			_, err = s.NewWindow(t.Context(), "tab")
			require.NoError(t, err)
			require.NoError(t, s.Reset(t.Context()))
			windows, err := s.Windows(t.Context())
			require.NoError(t, err)
			assert.Len(t, windows, 1)
			require.NoError(t, s.Navigate(t.Context(), site.URL))
			cookies, err := s.Cookies(t.Context())
			require.NoError(t, err)
			assert.Equal(t, []webdriver.Cookie{}, append([]webdriver.Cookie{}, cookies...))
		})
	}
}
