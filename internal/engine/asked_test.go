package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/webdriver"
)

var vendor = Vendor{Key: "acme:options", Agents: []string{"binary"}, Unknown: []string{"androidPackage"}}

func TestWhatBelongsToTheAgentCannotBeAskedFor(t *testing.T) {
	for says, options := range map[string]any{
		"binary is for the agent to choose": map[string]any{"binary": "/bin/sh"},
		"androidPackage cannot be had here": map[string]any{"args": []any{}, "androidPackage": "x"},
		"expected an object":                "binary",
	} {
		_, err := vendor.Of(webdriver.Capabilities{"acme:options": options})
		var refused *Refused
		require.ErrorAs(t, err, &refused)
		assert.ErrorContains(t, err, says)
	}
	given := map[string]any{"args": []any{"--lang=nb"}}
	fields, err := vendor.Of(webdriver.Capabilities{"acme:options": given})
	require.NoError(t, err)
	fields["binary"] = "x"
	assert.NotContains(t, given, "binary", "what was asked for is left as it is")
	args, err := vendor.Strings(fields, "args")
	require.NoError(t, err)
	assert.Equal(t, []string{"--lang=nb"}, args)
	_, err = vendor.Strings(map[string]any{"args": []any{7}}, "args")
	assert.ErrorContains(t, err, "args: expected a list of strings")
	none, err := vendor.Strings(fields, "extensions")
	assert.NoError(t, err)
	assert.Nil(t, none)
}

func TestOwnSessionsGetWhatScriptsNeedAndOthersWhatTheyAsk(t *testing.T) {
	settled := map[string]any{"args": []string{"--own"}}
	assert.Equal(t, webdriver.Capabilities{"acceptInsecureCerts": true, "unhandledPromptBehavior": "ignore", "webSocketUrl": true,
		"acme:options": settled}, vendor.Asking(Options{}, settled, true))
	assert.NotContains(t, vendor.Asking(Options{}, settled, false), "webSocketUrl")
	asked := webdriver.Capabilities{"pageLoadStrategy": "eager", "acme:options": map[string]any{"args": []any{"--theirs"}}}
	assert.Equal(t, webdriver.Capabilities{"pageLoadStrategy": "eager", "acme:options": settled},
		vendor.Asking(Options{Asked: asked}, settled, true))
	assert.Equal(t, webdriver.Capabilities{"pageLoadStrategy": "eager"}, vendor.Asking(Options{Asked: asked}, nil, true),
		"what the browser was started with is not asked of the driver again")
}

func TestArgumentsOfACommandLine(t *testing.T) {
	for _, c := range []struct {
		arg    string
		dashes bool
		fine   bool
	}{
		{"--lang=nb", true, true}, {"--lang=nb", false, true}, {"lang=nb", false, true}, {"lang=nb", true, false}, {"http://x/", true, false},
		{"--secret", true, false}, {"-SECRET=1", true, false},
		{"secret", false, false}, {"--secret =1", false, false}, {"--secretive", true, true}, {"", true, false}, {"--", true, true},
	} {
		args, err := vendor.Arguments(map[string]any{"args": []any{c.arg}}, c.dashes, "secret")
		if c.fine {
			require.NoError(t, err, c.arg)
			assert.Equal(t, []string{c.arg}, args)
			continue
		}
		var refused *Refused
		require.ErrorAs(t, err, &refused, c.arg)
	}
	none, err := vendor.Arguments(map[string]any{}, true)
	require.NoError(t, err)
	assert.Empty(t, none)
}
