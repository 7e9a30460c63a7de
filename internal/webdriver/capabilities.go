package webdriver

import (
	"encoding/json"
	"math"
	"slices"
	"strings"
)

// Alternatives processes the parameters of a New Session command into the sets
// of capabilities that are wanted, in order (W3C WebDriver, section 7.2
// "Processing capabilities": validate, then merge). Which of them can be had is
// for the caller to find out. An error has the code invalid argument.
func Alternatives(body []byte) ([]Capabilities, error) {
	var parameters map[string]json.RawMessage
	if err := json.Unmarshal(body, &parameters); err != nil || parameters == nil {
		return nil, Errorf(InvalidArgument, "expected a JSON object")
	}
	request, err := object(parameters["capabilities"], "capabilities")
	if err != nil {
		return nil, err
	}
	always := Capabilities{}
	if raw, ok := request["alwaysMatch"]; ok {
		if always, err = validate(raw, "alwaysMatch"); err != nil {
			return nil, err
		}
	}
	firsts := []json.RawMessage{json.RawMessage("{}")}
	if raw, ok := request["firstMatch"]; ok {
		if err := json.Unmarshal(raw, &firsts); err != nil || len(firsts) == 0 {
			return nil, Errorf(InvalidArgument, "firstMatch: expected a list of at least one object")
		}
	}
	var out []Capabilities
	for _, raw := range firsts {
		first, err := validate(raw, "firstMatch")
		if err != nil {
			return nil, err
		}
		merged := Capabilities{}
		for name, v := range always {
			merged[name] = v
		}
		for name, v := range first {
			if _, twice := merged[name]; twice {
				return nil, Errorf(InvalidArgument, "%s is in alwaysMatch and in firstMatch", name)
			}
			merged[name] = v
		}
		out = append(out, merged)
	}
	return out, nil
}

func object(raw json.RawMessage, what string) (map[string]json.RawMessage, error) {
	var m map[string]json.RawMessage
	if err := json.Unmarshal(raw, &m); err != nil || m == nil {
		return nil, Errorf(InvalidArgument, "%s: expected an object", what)
	}
	return m, nil
}

// validate checks the capabilities of one object (section 7.2.1 "Validate
// capabilities"). Those that are null are left out.
func validate(raw json.RawMessage, what string) (Capabilities, error) {
	fields, err := object(raw, what)
	if err != nil {
		return nil, err
	}
	out := Capabilities{}
	for name, raw := range fields {
		var v any
		if err := json.Unmarshal(raw, &v); err != nil {
			return nil, Errorf(InvalidArgument, "%s: %v", name, err)
		}
		if v == nil {
			continue
		}
		if wrong := wrongValue(name, v); wrong != "" {
			return nil, Errorf(InvalidArgument, "%s: %s", name, wrong)
		}
		out[name] = v
	}
	return out, nil
}

// wrongValue says what is wrong with a capability; "" when nothing is.
func wrongValue(name string, v any) string {
	_, isBool := v.(bool)
	text, isText := v.(string)
	switch name {
	case "acceptInsecureCerts", "strictFileInteractability", "setWindowRect", "webSocketUrl":
		if !isBool {
			return "expected true or false"
		}
	case "browserName", "browserVersion", "platformName":
		if !isText {
			return "expected a string"
		}
	case "pageLoadStrategy":
		if !slices.Contains([]string{"none", "eager", "normal"}, text) {
			return "expected none, eager or normal"
		}
	case "proxy":
		return wrongProxy(v)
	case "timeouts":
		return wrongTimeouts(v)
	case "unhandledPromptBehavior":
		return wrongPromptHandler(v)
	default:
		if !strings.Contains(name, ":") {
			return "there is no such capability; those of one's own need a prefix and a colon"
		}
	}
	return ""
}

// maxSafe is the largest integer that JSON numbers carry exactly.
const maxSafe = 1<<53 - 1

func whole(v any, most float64) bool {
	n, ok := v.(float64)
	return ok && n >= 0 && n <= most && n == math.Trunc(n)
}

// wrongTimeouts follows section 9 "Timeouts", "deserialize as timeouts".
func wrongTimeouts(v any) string {
	m, ok := v.(map[string]any)
	if !ok {
		return "expected an object"
	}
	for key, t := range m {
		switch key {
		case "script", "pageLoad", "implicit":
			if t != nil && !whole(t, maxSafe) {
				return key + ": expected whole milliseconds or null"
			}
		default:
			return "there is no timeout " + key
		}
	}
	return ""
}

var promptHandlers = []string{"dismiss", "accept", "dismiss and notify", "accept and notify", "ignore"}

// wrongPromptHandler follows section 11 "User prompts", "deserialize as an
// unhandled prompt behavior".
func wrongPromptHandler(v any) string {
	ok := func(v any) bool {
		s, isText := v.(string)
		return isText && slices.Contains(promptHandlers, s)
	}
	m, isObject := v.(map[string]any)
	if !isObject {
		if !ok(v) {
			return "expected one of " + strings.Join(promptHandlers, ", ")
		}
		return ""
	}
	for prompt, handler := range m {
		if !slices.Contains([]string{"alert", "beforeUnload", "confirm", "default", "file", "prompt"}, prompt) {
			return "there is no prompt " + prompt
		}
		if !ok(handler) {
			return prompt + ": expected one of " + strings.Join(promptHandlers, ", ")
		}
	}
	return ""
}

// wrongProxy follows section 7.3 "Proxy", "deserialize as a proxy".
func wrongProxy(v any) string {
	m, ok := v.(map[string]any)
	if !ok {
		return "expected an object"
	}
	kind, _ := m["proxyType"].(string)
	if !slices.Contains([]string{"pac", "direct", "autodetect", "system", "manual"}, kind) {
		return "proxyType: expected pac, direct, autodetect, system or manual"
	}
	for key, x := range m {
		_, isText := x.(string)
		switch key {
		case "proxyType":
		case "proxyAutoconfigUrl", "httpProxy", "sslProxy", "socksProxy":
			if !isText {
				return key + ": expected a string"
			}
		case "socksVersion":
			if !whole(x, 255) {
				return "socksVersion: expected 0 to 255"
			}
		case "noProxy":
			list, isList := x.([]any)
			if !isList || slices.ContainsFunc(list, func(e any) bool { _, s := e.(string); return !s }) {
				return "noProxy: expected a list of strings"
			}
		default:
			return "there is no " + key
		}
	}
	switch {
	case kind == "pac" && m["proxyAutoconfigUrl"] == nil:
		return "a proxy of the type pac needs proxyAutoconfigUrl"
	case (m["socksProxy"] == nil) != (m["socksVersion"] == nil):
		return "socksProxy and socksVersion come together"
	}
	return ""
}

// Prefixes are those of the extension capabilities that each driver knows: by the
// browser's name where its driver knows others than its engine's.
var Prefixes = map[string][]string{
	"chromium": {"goog:", "webauthn:", "fedcm:"}, "edge": {"ms:", "webauthn:", "fedcm:"}, "gecko": {"moz:"},
	"webkit": {"webkitgtk:", "webauthn:"}, "wpe": {"wpe:"}, "safari": {"safari:", "webkit:"},
}

// OtherPrefixes lists the prefixes that others know and the driver of a browser of an
// engine does not. An extension capability that no driver knows has none of them:
// nobody is refused for it.
func OtherPrefixes(browser, engine string) (out []string) {
	own, special := Prefixes[browser]
	if !special {
		own = Prefixes[engine]
	}
	for _, prefixes := range Prefixes {
		for _, p := range prefixes {
			if !slices.Contains(own, p) && !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Offer is what a remote end can serve.
type Offer struct {
	Browser  string   // browserName
	Version  string   // browserVersion; one that is asked for may be its beginning
	Platform string   // platformName
	BiDi     bool     // webSocketUrl
	Insecure bool     // acceptInsecureCerts
	Others   []string // prefixes of extension capabilities that other engines know, such as "goog:": who asks for one means them
}

// Choose returns the first alternative that the offer meets (section 7.2.3
// "Match capabilities"). The error has the code session not created and says of
// each alternative why not.
func (o Offer) Choose(alternatives []Capabilities) (Capabilities, error) {
	var reasons []string
	for _, a := range alternatives {
		why := o.lacks(a)
		if why == "" {
			return a, nil
		}
		reasons = append(reasons, why)
	}
	return nil, Errorf(SessionNotCreated, "no alternative can be served: %s", strings.Join(reasons, "; "))
}

// lacks says what of a set of capabilities cannot be served.
func (o Offer) lacks(c Capabilities) string {
	for name, v := range c {
		switch name {
		case "browserName":
			if v != o.Browser {
				return "this is " + o.Browser + ", not " + v.(string)
			}
		case "browserVersion":
			if want := v.(string); want != o.Version && !strings.HasPrefix(o.Version, want+".") {
				return "this is version " + o.Version + ", not " + want
			}
		case "platformName":
			if v != o.Platform {
				return "this is " + o.Platform + ", not " + v.(string)
			}
		case "webSocketUrl":
			if v == true && !o.BiDi {
				return "it has no webSocketUrl"
			}
		case "acceptInsecureCerts":
			if v == true && !o.Insecure {
				return "it accepts no insecure certificates"
			}
		}
		if prefix, _, ok := strings.Cut(name, ":"); ok && slices.Contains(o.Others, prefix+":") {
			return name + " is another engine's"
		}
	}
	return ""
}
