package webdrive_test

import (
	"log/slog"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/demo/desk"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/script/webdrive/changes"
	"parallelpane/internal/sessions"
	"parallelpane/internal/webdriver"
)

// What a locator matches is known again among all that the page is made of, on every engine.
func TestWhatLocatorsMatchIsKnownAgain(t *testing.T) {
	site := httptest.NewServer(desk.New(time.Millisecond))
	t.Cleanup(site.Close)
	for _, family := range []engine.Family{chromium.Family{}, gecko.Family{}, webkit.Family{}} {
		t.Run(family.Name(), func(t *testing.T) {
			on := session(t, family, "desktop")
			b := webdrive.New(on, nil)
			require.NoError(t, b.Visit(t.Context(), site.URL+"/berths/B3"))
			q := script.Query{Find: script.Find{By: "role", Value: "button", Name: "Hold berth B3", Named: true}, Matches: 1, Portray: true}
			sight, err := b.Look(t.Context(), q)
			require.NoError(t, err)
			require.Len(t, sight.Matches, 1)
			was := sight.Matches[0].Portrait
			require.NotNil(t, was)
			assert.Equal(t, "button", was.Role)
			assert.Equal(t, "Hold berth B3", was.Name)
			require.NoError(t, on.Execute(t.Context(), `window.seen = 0;
				new MutationObserver((all) => { seen += all.length; }).observe(document, {attributes: true, childList: true, subtree: true})`, nil))
			page, err := b.Survey(t.Context(), q, true)
			require.NoError(t, err)
			var seen int
			require.NoError(t, on.ExecuteAsync(t.Context(), `setTimeout(() => arguments[0](seen), 0)`, &seen))
			assert.Zero(t, seen, "the page sees nothing of it")
			require.Len(t, page.Found, 1)
			assert.Equal(t, *was, page.Elements[page.Found[0]])
			assert.Equal(t, site.URL+"/berths/B3", page.Address)
			assert.Equal(t, 1280, page.Width)
			assert.NotContains(t, page.Source, "<script")
			assert.Contains(t, page.Source, "data-surveyed=\"")
			ranked := likeness.Rank(was, page.Elements, 1)
			require.Len(t, ranked, 1)
			assert.Equal(t, page.Found[0], ranked[0].Index)
			assert.True(t, likeness.Certain(was, page.Elements, ranked))
			l, ok := likeness.Propose(page.Elements, page.Found[0], script.DefaultMarker)
			assert.True(t, ok)
			assert.Equal(t, "{role: button, name: Hold berth B3}", l.YAML())
			again, err := b.Look(t.Context(), script.Query{Find: script.Find{By: "surveyed", Value: "0"}, Matches: 1})
			require.NoError(t, err)
			require.Len(t, again.Matches, 1)
			assert.Equal(t, page.Elements[0].Tag, again.Matches[0].Tag)
			require.NoError(t, b.Visit(t.Context(), site.URL+"/tides"))
			gone, err := b.Look(t.Context(), script.Query{Find: script.Find{By: "surveyed", Value: "0"}, Matches: 1})
			require.NoError(t, err)
			assert.Zero(t, gone.Total, "another page has other elements")
		})
	}
}

func session(t *testing.T, family engine.Family, on string) *webdriver.Session {
	b := conformance.Browser(t, family)
	profile, err := device.Find(on)
	require.NoError(t, err)
	host, err := sessions.NewHost(t.TempDir(), slog.New(slog.DiscardHandler), family)
	require.NoError(t, err)
	s, err := host.Open(t.Context(), sessions.Request{Browser: b, Device: profile})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s.Session
}

// Elements of real pages are found again after changes, and nothing is taken for what is
// gone.
func TestElementsOfChangedPages(t *testing.T) {
	site := httptest.NewServer(desk.New(time.Millisecond))
	t.Cleanup(site.Close)
	s := session(t, chromium.Family{}, "desktop")
	var all changes.Tally
	for i, path := range []string{"/", "/berths/B3", "/tides", "/fees", "/sign-in", "/rules", "/insurance"} {
		require.NoError(t, s.Navigate(t.Context(), site.URL+path))
		got, err := changes.Try(t.Context(), s, 1000*i, 40)
		require.NoError(t, err)
		all.Add(got)
	}
	t.Logf("%d of %d first, %d accepted, %d wrongly of %d\n%s", all.First, all.There, all.Accepted, all.Wrong, all.Trials(),
		strings.Join(all.Misses, "\n"))
	assert.Greater(t, all.Trials(), 250)
	assert.GreaterOrEqual(t, float64(all.First), 0.95*float64(all.There))
	assert.LessOrEqual(t, float64(all.Wrong), 0.005*float64(all.Trials()))
	assert.Greater(t, all.Accepted, all.There/2)
}
