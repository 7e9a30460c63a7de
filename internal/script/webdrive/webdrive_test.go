package webdrive_test

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/demo/desk"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/project"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/sessions"
)

type quiet struct{ shots []string }

func (q *quiet) StepDone(attempt.Step)             {}
func (q *quiet) Page(string, likeness.Page) string { return "" }
func (q *quiet) Shot(name string, _ []byte) string {
	q.shots = append(q.shots, name)
	return name
}

const saltmarsh = "../../demo/saltmarsh"

// knownDefects are the tests that the berth desk's real defects fail, by what
// they fail on.
var knownDefects = map[string]func(b string, p device.Profile) bool{
	"Choosing a berth shows its card":   func(b string, _ device.Profile) bool { return b == "firefox" },
	"The fee is worked out in the page": func(b string, _ device.Profile) bool { return b == "webkitgtk" },
	"Reach the tide table from the bar": func(_ string, p device.Profile) bool { return p.Small() },
}

// TestDemoSuite runs the demo's scripts on each engine, on a desktop and a
// phone, and expects each real defect to be found just where it is.
func TestDemoSuite(t *testing.T) {
	site := httptest.NewServer(desk.New(40 * time.Millisecond))
	t.Cleanup(site.Close)
	p, err := project.Load(project.Dir(saltmarsh))
	require.NoError(t, err)
	suite, err := p.Suite("desk")
	require.NoError(t, err)
	scripts, err := p.Scripts(project.Dir(saltmarsh), suite)
	require.NoError(t, err)
	require.Greater(t, len(scripts), 9)
	env, err := p.Environment("local")
	require.NoError(t, err)

	for _, family := range []engine.Family{chromium.Family{}, gecko.Family{}, webkit.Family{}} {
		for _, name := range []string{"desktop", "phone"} {
			if name == "phone" && family.Name() != "chromium" && os.Getenv("PANE_THOROUGH") == "" {
				continue // what engines emulate has tests of its own: package sessions
			}
			t.Run(family.Name()+"/"+name, func(t *testing.T) {
				b := conformance.Browser(t, family)
				profile, err := device.Find(name)
				require.NoError(t, err)
				host, err := sessions.NewHost(t.TempDir(), slog.New(slog.DiscardHandler), family)
				require.NoError(t, err)
				s, err := host.Open(t.Context(), sessions.Request{Browser: b, Device: profile})
				require.NoError(t, err)
				t.Cleanup(s.Close)
				assert.Contains(t, s.Outcome.Applied, map[string]string{"desktop": "viewport 1280×800", "phone": "viewport 390×844"}[name])
				t.Run("a site that is not there is the lab's trouble", func(t *testing.T) {
					gone := httptest.NewServer(nil)
					gone.Close()
					err := webdrive.New(s.Session, s).Visit(t.Context(), gone.URL+"/x")
					assert.True(t, script.IsLab(err), "%v", err)
					assert.ErrorContains(t, err, gone.URL+" cannot be reached from this agent")
				})
				t.Run("a network that the test switches off is not", func(t *testing.T) {
					b := webdrive.New(s.Session, s)
					require.NoError(t, b.Network(t.Context(), traffic.Shape{Off: true}))
					err := b.Visit(t.Context(), site.URL)
					assert.False(t, script.IsLab(err), "%v", err)
					require.ErrorIs(t, err, traffic.ErrOff)
				})
				for _, sc := range scripts {
					t.Run(sc.Name, func(t *testing.T) {
						ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
						defer cancel()
						require.NoError(t, s.Reset(ctx))
						for i := range sc.Steps { // a defect need not be waited for as long as a user would
							if sc.Steps[i].Action == script.Expect || sc.Steps[i].Action == script.Click {
								sc.Steps[i].Wait = 1500 * time.Millisecond
							}
						}
						var row map[string]string
						if len(sc.Rows) > 0 {
							row = sc.Rows[0].Values
						}
						out := script.Run(ctx, sc, webdrive.New(s.Session, s), script.Setting{
							Base: site.URL, Root: saltmarsh,
							Scope: script.Scope{Browser: b.Name, OS: "linux", Device: script.DeviceOf(profile), Vars: env.Vars, Row: row},
						}, &quiet{})
						want := verdict.Passed
						if defect := knownDefects[sc.Name]; defect != nil && defect(b.Name, profile) {
							want = verdict.Failed
						}
						assert.Equal(t, want, out.Verdict, "%s", out.Message)
						if out.Verdict == verdict.Failed {
							t.Log(out.Message)
						}
					})
				}
			})
		}
	}
}
