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
		" --utility-cmd-prefix=x", "--ssl-key-log-file =x"} {
		var refused *engine.Refused
		err := launch("--lang=nb", strings.TrimLeft(arg, " "))
		require.ErrorAs(t, err, &refused, arg)
		assert.ErrorContains(t, err, "is for the agent to choose")
	}
	var refused *engine.Refused
	require.ErrorAs(t, launch(7), &refused)
	assert.ErrorContains(t, launch(7), "expected a list of strings")
}
