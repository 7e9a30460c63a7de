package webdriver

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAlternatives(t *testing.T) {
	for body, want := range map[string][]Capabilities{
		`{"capabilities":{}}`:                     {{}},
		`{"capabilities":{"alwaysMatch":{}}}`:     {{}},
		`{"capabilities":{"firstMatch":[{},{}]}}`: {{}, {}},
		`{"capabilities":{"alwaysMatch":{"browserName":"firefox","platformName":null},"firstMatch":[{"browserVersion":"153"},
{"pane:options":{"device":"phone"}}]}}`: {
			{"browserName": "firefox", "browserVersion": "153"}, {"browserName": "firefox", "pane:options": map[string]any{"device": "phone"}}},
		`{"capabilities":{"alwaysMatch":{"timeouts":{"script":null,"pageLoad":null,"implicit":5},"unhandledPromptBehavior":{"alert":"accept"},
"proxy":{"proxyType":"manual","socksProxy":"x","socksVersion":5}}}}`: {
			{"timeouts": map[string]any{"script": nil, "pageLoad": nil, "implicit": 5.0},
				"unhandledPromptBehavior": map[string]any{"alert": "accept"},
				"proxy":                   map[string]any{"proxyType": "manual", "socksProxy": "x", "socksVersion": 5.0}}},
	} {
		got, err := Alternatives([]byte(body))
		require.NoError(t, err, body)
		assert.Equal(t, want, got, body)
	}
}

func TestCapabilitiesThatAreRefused(t *testing.T) {
	always := func(s string) string { return `{"capabilities":{"alwaysMatch":{` + s + `}}}` }
	for body, want := range map[string]string{
		``: "JSON object", `null`: "JSON object", `[]`: "JSON object", `{}`: "capabilities: expected an object",
		`{"capabilities":[]}`:                   "capabilities: expected",
		`{"capabilities":{"alwaysMatch":null}}`: "alwaysMatch: expected",
		`{"capabilities":{"firstMatch":[]}}`:    "at least one",
		`{"capabilities":{"firstMatch":{}}}`:    "at least one",
		`{"capabilities":{"firstMatch":[1]}}`:   "firstMatch: expected an object",
		`{"capabilities":{"alwaysMatch":{"browserName":"a"},"firstMatch":[{"browserName":"a"}]}}`: "in alwaysMatch and in firstMatch",
		always(`"browserName":7`):                                 "expected a string",
		always(`"acceptInsecureCerts":"true"`):                    "true or false",
		always(`"pageLoadStrategy":"fast"`):                       "none, eager or normal",
		always(`"boat":1`):                                        "no such capability",
		always(`"timeouts":{"implicit":-1}`):                      "implicit: expected whole",
		always(`"timeouts":{"pageLoad":9007199254740992}`):        "pageLoad",
		always(`"timeouts":{"script":1.5}`):                       "script",
		always(`"timeouts":{"tea":1}`):                            "no timeout tea",
		always(`"unhandledPromptBehavior":"shrug"`):               "expected one of dismiss",
		always(`"unhandledPromptBehavior":{"alert":"shrug"}`):     "alert: expected",
		always(`"unhandledPromptBehavior":{"tea":"accept"}`):      "no prompt tea",
		always(`"proxy":{}`):                                      "proxyType",
		always(`"proxy":{"proxyType":"pac"}`):                     "needs proxyAutoconfigUrl",
		always(`"proxy":{"proxyType":"manual","socksProxy":"x"}`): "come together",
		always(`"proxy":{"proxyType":"manual","noProxy":"x"}`):    "list of strings",
		always(`"proxy":{"proxyType":"manual","tea":"x"}`):        "there is no tea",
	} {
		_, err := Alternatives([]byte(body))
		require.Error(t, err, body)
		assert.Equal(t, InvalidArgument, CodeOf(err), body)
		assert.ErrorContains(t, err, want, body)
	}
}

func FuzzAlternatives(f *testing.F) {
	f.Add([]byte(`{"capabilities":{"alwaysMatch":{"timeouts":{"implicit":5}},"firstMatch":[{"proxy":{"proxyType":"direct"}}]}}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		got, err := Alternatives(body)
		if err == nil && len(got) == 0 {
			t.Fatal("nothing is wanted and nothing is wrong")
		}
	})
}

func TestChooseTakesTheFirstThatCanBeServed(t *testing.T) {
	o := Offer{Browser: "firefox", Version: "153.7.0", Platform: "linux", Others: OtherPrefixes("firefox", "gecko")}
	got, err := o.Choose([]Capabilities{{"browserName": "webkitgtk"}, {"browserVersion": "15"}, {"browserVersion": "153",
		"moz:debug": true, "webSocketUrl": false}, {}})
	require.NoError(t, err)
	assert.Equal(t, Capabilities{"browserVersion": "153", "moz:debug": true, "webSocketUrl": false}, got)
	_, err = o.Choose([]Capabilities{{"browserName": "webkitgtk"}, {"platformName": "tern"}, {"webSocketUrl": true},
		{"acceptInsecureCerts": true}, {"goog:size": 3}})
	got, err2 := o.Choose([]Capabilities{{"boat:size": 3.0}})
	require.NoError(t, err2, "what no engine knows refuses none")
	assert.Len(t, got, 1)
	assert.Equal(t, SessionNotCreated, CodeOf(err))
	assert.ErrorContains(t, err, "this is firefox, not webkitgtk; this is linux, not tern; it has no webSocketUrl; it accepts no "+
		"insecure certificates; goog:size is another engine's")
}
