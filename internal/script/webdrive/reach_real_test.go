package webdrive_test

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/sessions"
)

// A test reaches into frames, goes from window to window, and waits for what is saved.
func TestFramesWindowsAndWhatIsSaved(t *testing.T) {
	pages := map[string]string{
		"/": `<title>Office</title><p>Outside</p><button>Hold</button><a href=/tides target=_blank>Tides</a> <a href=/tides.csv>Save</a>
<iframe id=late></iframe><script>setTimeout(() => { late.src = "/pay" }, 300)</script>`,
		"/pay": `<title>Pay</title><h1>Paying</h1><iframe src=/card></iframe>`,
		"/card": `<label>Card <input></label>
<button onclick="out.textContent = 'Paid with ' + document.querySelector('input').value">Hold</button><p id=out></p>`,
		"/tides":  `<title>Tide table</title><h1>High at 06:12</h1><a href=/fees target=_blank>Fees</a>`,
		"/broken": `<button onclick="Promise.reject(new Error('no berth')); slackWater()">Hold</button>`,
		"/fees":   `<title>Fees</title><h1>28.80 a night</h1>`,
	}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if r.URL.Path == "/tides.csv" {
			w.Header().Set("Content-Type", "text/csv")
			w.Header().Set("Content-Disposition", "attachment")
			_, _ = w.Write([]byte("high,06:12\n"))
			return
		}
		_, _ = w.Write([]byte("<!doctype html>" + pages[r.URL.Path]))
	}))
	t.Cleanup(site.Close)
	const common = `name: Reach
wait: 10s
steps:
  - visit: /
  - {expect: Paying, frame: {css: "#late"}}
  - {enter: {at: {label: Card}, text: "4711"}, frame: [{css: "#late"}, {css: iframe}]}
  - {click: Hold, frame: [{css: "#late"}, {css: iframe}]}
  - {expect: {reads: Paid with 4711, at: {css: "#out"}}, frame: [{css: "#late"}, {css: iframe}]}
  - expect: {reads: Outside, at: {css: p}}
  - click: {role: link, name: Tides}
  - window: new
  - expect: High at 06:12
  - click: {role: link, name: Fees}
  - window: {title: Fees}
  - expect: 28.80 a night
  - window: close
  - expect: High at 06:12
  - window: first
  - expect: Outside
  - window: {address: /tides}
  - window: close
  - expect: Outside
`
	for _, family := range []engine.Family{chromium.Family{}, gecko.Family{}, webkit.Family{}} {
		t.Run(family.Name(), func(t *testing.T) {
			b := conformance.Browser(t, family)
			profile, err := device.Find("desktop")
			require.NoError(t, err)
			host, err := sessions.NewHost(t.TempDir(), slog.New(slog.DiscardHandler), family)
			require.NoError(t, err)
			s, err := host.Open(t.Context(), sessions.Request{Browser: b, Device: profile})
			require.NoError(t, err)
			t.Cleanup(s.Close)
			run := func(src string) script.Outcome {
				sc, err := script.Parse("reach.pane.yaml", []byte(src), nil)
				require.NoError(t, err)
				return script.Run(t.Context(), sc, webdrive.New(s.Session, s), script.Setting{Base: site.URL}, &quiet{})
			}
			out := run(common)
			assert.Equal(t, verdict.Passed, out.Verdict, out.Message)
			windows, err := s.Windows(t.Context())
			require.NoError(t, err)
			assert.Len(t, windows, 1)
			out = run("name: W\nwait: 200ms\nsteps:\n  - window: new\n")
			assert.Contains(t, out.Message, "no window has opened; there are 1")
			out = run("name: W\nwait: 200ms\nsteps:\n  - window: {title: Gate}\n")
			assert.Contains(t, out.Message, `no window's title contains "Gate"; there are ["Office"]`)
			out = run("name: W\nsteps:\n  - window: close\n")
			assert.Contains(t, out.Message, "this is the only window")
			hiding := webdrive.New(s.Session, s).Conceal(func(text string) bool { return text == "kedge" })
			require.NoError(t, s.Navigate(t.Context(), site.URL+"/card"))
			field, err := hiding.Look(t.Context(), script.Query{Find: script.Find{By: "css", Value: "input"}, Matches: 1})
			require.NoError(t, err)
			shown := func(text string) (how string) {
				require.NoError(t, hiding.Enter(t.Context(), field.Matches[0], text))
				require.NoError(t, s.Execute(t.Context(), `return getComputedStyle(document.querySelector("input")).webkitTextSecurity`, &how))
				return how
			}
			assert.Equal(t, "none", shown("Osprey"))
			assert.Equal(t, "disc", shown("kedge"), "pictures show no secret")
			var heard []webdrive.PageError
			heeding := webdrive.New(s.Session, s).Heed(func(e webdrive.PageError) { heard = append(heard, e) })
			require.NoError(t, s.Navigate(t.Context(), site.URL+"/broken"))
			button := script.Query{Find: script.Find{By: "css", Value: "button"}, Matches: 1}
			sight, err := heeding.Look(t.Context(), button)
			require.NoError(t, err)
			require.NoError(t, heeding.Click(t.Context(), sight.Matches[0]))
			require.Eventually(t, func() bool {
				_, err := heeding.Look(t.Context(), button)
				return err == nil && len(heard) > 1
			}, 10*time.Second, 20*time.Millisecond, "errors that nobody caught are told")
			assert.Len(t, heard, 2, "each of them once")
			assert.Contains(t, heard[0].Text+heard[1].Text, "slackWater")
			assert.Contains(t, heard[0].Text+heard[1].Text, "no berth")
			if family.Name() == "webkit" {
				return // its browser asks a person where to save
			}
			out = run("name: S\nwait: 10s\nsteps:\n  - visit: /\n  - click: {role: link, name: Save}\n  - expect: {saved: \"tides*.csv\"}\n")
			assert.Equal(t, verdict.Passed, out.Verdict, out.Message)
			require.NoError(t, s.Reset(t.Context()))
			saved, err := s.Saved(t.Context())
			require.NoError(t, err)
			assert.Empty(t, saved, "the next test of a kept browser begins without")
		})
	}
}
