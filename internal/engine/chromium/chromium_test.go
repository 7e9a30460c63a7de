package chromium

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/engine"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/webdriver"
)

func TestConformance(t *testing.T) {
	conformance.Run(t, Family{}, conformance.Kit{Script: true, BiDi: true})
}

// What a session asks of the command line may change how pages look and behave,
// not what the agent runs, opens or writes.
func TestSwitchesThatAreTheAgents(t *testing.T) {
	launch := func(args ...any) error {
		_, err := Family{}.Launch(t.Context(), engine.Options{Asked: webdriver.Capabilities{vendor.Key: map[string]any{"args": args}}})
		return err
	}
	for _, arg := range []string{"--renderer-cmd-prefix=sh -c id", "renderer-cmd-prefix=x", "--Renderer-Cmd-Prefix=x", "-gpu-launcher=x",
		"--browser-subprocess-path=/bin/sh", "--remote-debugging-port=9",
		"--remote-debugging-pipe", "--load-extension=/etc", "--log-net-log=/tmp/x", "--print-to-pdf=/tmp/x",
		" --utility-cmd-prefix=x", "--ssl-key-log-file =x", "--js-flags=--allow-natives-syntax", "--no-proxy-server",
		"--proxy-pac-url=http://x/", "--proxy-server=direct://", "--trace-startup",
		"--crash-dumps-dir=/tmp", "--use-file-for-fake-audio-capture=/etc/hosts",
		"--user-data-dir=/tmp/x", "--host-resolver-rules=MAP * 127.0.0.1", "--no-zygote", "--single-process"} {
		var refused *engine.Refused
		err := launch("--lang=nb", strings.TrimLeft(arg, " "))
		require.ErrorAs(t, err, &refused, arg)
		assert.ErrorContains(t, err, "cannot be had here")
	}
	for says, options := range map[string]map[string]any{
		"downloads go into":                       {"prefs": map[string]any{"download": map[string]any{"default_directory": "/etc"}}},
		"savefile.default_directory cannot":       {"prefs": map[string]any{"savefile.default_directory": "/etc"}},
		"the preference proxy.mode cannot be had": {"prefs": map[string]any{"proxy": map[string]any{"mode": "direct"}}},
		"traces write files":                      {"perfLoggingPrefs": map[string]any{"traceCategories": "*"}},
		"it writes to a path":                     {"minidumpPath": "/tmp"},
		"somebody else's browser":                 {"debuggerAddress": "127.0.0.1:9"},
		"prefs: expected an object":               {"prefs": "x"},
		"the preference user_experience_metrics":  {"localState": map[string]any{"user_experience_metrics": map[string]any{"a": 1}}},
	} {
		_, err := Family{}.Launch(t.Context(), engine.Options{Asked: webdriver.Capabilities{vendor.Key: options}})
		require.ErrorContains(t, err, says)
	}
	var refused *engine.Refused
	require.ErrorAs(t, launch(7), &refused)
	assert.ErrorContains(t, launch(7), "expected a list of strings")
}
