package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/webdriver"
)

var vendor = Vendor{Key: "acme:options", Fields: []string{"args", "extensions"}, Why: map[string]string{"binary": "the agent chooses it",
	"secret": "it listens"}, Switches: Names{"lang", "secretive", "dim-*"}, Decided: []string{"no-sandbox"},
	Prefs: Names{"intl.*", "profile.cookies"}}

func TestWhatBelongsToTheAgentCannotBeAskedFor(t *testing.T) {
	for says, options := range map[string]any{
		"binary cannot be had here: the agent chooses it. Leave it out": map[string]any{"binary": "/bin/sh"},
		"started with --allow acme:options.log":                         map[string]any{"log": "x"},
		"sail cannot be had here: it is not on the list":                map[string]any{"args": []any{}, "sail": "x"},
		"expected an object":                                            "binary",
	} {
		_, err := vendor.Of(webdriver.Capabilities{"acme:options": options}, nil)
		var refused *Refused
		require.ErrorAs(t, err, &refused)
		assert.ErrorContains(t, err, says)
	}
	given := map[string]any{"args": []any{"--lang=nb"}}
	fields, err := vendor.Of(webdriver.Capabilities{"acme:options": given}, nil)
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
		says   string
	}{
		{"--lang=nb", true, ""}, {"--lang=nb", false, ""}, {"lang=nb", false, ""}, {"--LANG=nb", true, ""}, {"--dim-all", true, ""},
		{"--secretive", true, ""}, {"lang=nb", true, "is no switch"}, {"http://x/", true, "is no switch"}, {"", true, "is no switch"},
		{"--", true, "is no switch"}, {"--secret", true, "it listens"}, {"-SECRET=1", true, "it listens"}, {"secret", false, "it listens"},
		{"--secret =1", false, "it listens"}, {"--sail", true, "not on the list of what sessions may ask for"},
	} {
		args, left, err := vendor.Arguments(map[string]any{"args": []any{c.arg}}, c.dashes, nil)
		assert.Empty(t, left)
		if c.says == "" {
			require.NoError(t, err, c.arg)
			assert.Equal(t, []string{c.arg}, args)
			continue
		}
		var refused *Refused
		require.ErrorAs(t, err, &refused, c.arg)
		assert.ErrorContains(t, err, c.says, c.arg)
	}
	args, left, err := vendor.Arguments(map[string]any{"args": []any{"--secret=1", "--no-sandbox", "--lang=nb"}}, true, Names{"--secret"})
	require.NoError(t, err)
	assert.Equal(t, []string{"--secret=1", "--lang=nb"}, args, "its owner allows it")
	assert.Equal(t, []string{"--no-sandbox"}, left)
	none, _, err := vendor.Arguments(map[string]any{}, true, nil)
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestPreferences(t *testing.T) {
	for name, prefs := range map[string]map[string]any{
		"":              {"intl.accept_languages": "nb", "intl": map[string]any{"charset": "x"}, "profile": map[string]any{"cookies": 2}},
		"profile.dir":   {"profile": map[string]any{"cookies": 1, "dir": "/etc"}},
		"profile":       {"profile": "x"},
		"download.path": {"download.path": "/etc"},
	} {
		err := vendor.Preferences(prefs, nil)
		if name == "" {
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, "acme:options: the preference "+name+" cannot be had here", name)
		require.ErrorContains(t, err, "--allow "+name)
	}
	assert.NoError(t, vendor.Preferences(map[string]any{"download": map[string]any{"path": "/x"}}, Names{"download.*"}))
}
