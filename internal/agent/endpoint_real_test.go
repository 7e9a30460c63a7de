package agent_test

import (
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/webdriver"
)

// through is a family as the session endpoint serves it.
type through struct {
	engine.Family
	o       *office
	token   string
	caps    webdriver.Capabilities
	options map[string]any
}

func (f through) Launch(_ context.Context, o engine.Options) (*engine.Instance, error) {
	options := maps.Clone(f.options)
	if o.Headed {
		options["mode"], options["device"] = "headed", o.Device.Name
	}
	inst := &engine.Instance{URL: "http://anybody:" + f.token + "@" + f.o.address + "/webdriver", Caps: maps.Clone(f.caps)}
	inst.Caps["pane:options"] = options
	inst.Watch(func() error {
		f.o.until(func() bool {
			open, err := f.o.svc.Sessions(f.o.t.Context(), api.SessionFilter{State: "open"})
			return err == nil && len(open) == 0
		})
		return errors.New("the session has ended")
	})
	return inst, nil
}

// What an engine's driver can do a client can do through service and agent, also
// while everything is recorded.
func TestEnginesConformThroughTheEndpoint(t *testing.T) {
	for name, c := range map[string]struct {
		family engine.Family
		bidi   bool
	}{"chromium": {chromium.Family{}, true}, "firefox": {gecko.Family{}, true}, "webkitgtk": {webkit.Family{}, false}} {
		t.Run(name, func(t *testing.T) {
			conformance.Browser(t, c.family)
			o := opened(t, t.TempDir(), "127.0.0.1:0")
			o.work(c.family, "quay", 1)
			r := o.runner("build", api.Runner)
			caps := webdriver.Capabilities{"browserName": name, "acceptInsecureCerts": true, "unhandledPromptBehavior": "ignore"}
			if c.bidi {
				caps["webSocketUrl"] = true
			}
			conformance.Run(t, through{c.family, o, r.token, caps, map[string]any{"test": "kit", "record": "always"}},
				conformance.Kit{Script: true, BiDi: c.bidi, Give: func(t *testing.T, s *webdriver.Session, file string) (path string) {
					raw, err := os.ReadFile(file)
					require.NoError(t, err)
					require.NoError(t, s.Do(t.Context(), "POST", "/pane/file", map[string]any{"name": filepath.Base(file), "content": raw}, &path))
					return path
				}})
			for _, s := range o.sessions() {
				assert.Equal(t, "the client ended it", o.over(s.ID).End)
			}
			assert.Len(t, o.sessions(), 2)
		})
	}
}

func (o *office) sessions() []api.SessionSummary {
	o.t.Helper()
	all, err := o.svc.Sessions(o.t.Context(), api.SessionFilter{})
	require.NoError(o.t, err)
	return all
}
