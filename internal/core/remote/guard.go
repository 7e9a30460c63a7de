package remote

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Command says why a command of classic WebDriver may not reach a driver; "" when
// it may. path is what follows the session's id.
func Command(method, path string, body []byte) string {
	if method != "POST" {
		return ""
	}
	path, _, _ = strings.Cut(path, "?")
	switch path {
	case "/url":
		p, twice := object(body)
		if twice != "" {
			return ambiguous(twice)
		}
		return Address(text(p["url"]))
	case "/goog/cdp/execute", "/chromium/send_command", "/chromium/send_command_and_get_result":
		p, twice := object(body)
		if twice != "" {
			return ambiguous(twice)
		}
		return devtools(text(p["cmd"]), p["params"])
	}
	return ""
}

// BiDi says why a message of WebDriver BiDi may not reach a browser; "" when it
// may.
func BiDi(raw []byte) string {
	m, twice := object(raw)
	p, inner := object(m["params"])
	if twice += inner; twice != "" {
		return ambiguous(twice)
	}
	switch text(m["method"]) {
	case "browsingContext.navigate":
		return Address(text(p["url"]))
	case "browser.createUserContext":
		if proxy := string(p["proxy"]); proxy != "" && proxy != "null" {
			return "proxy: a session has one way out; name a proxy by the capability proxy"
		}
	case "browser.setDownloadBehavior":
		return "downloads go into the session's own directory"
	case "webExtension.install":
		data, twice := object(p["extensionData"])
		if twice != "" {
			return ambiguous(twice)
		}
		if text(data["type"]) != "base64" {
			return "extensionData: a session sees no files; bring the extension in base64"
		}
	case "goog:cdp.sendCommand", "cdp.sendCommand":
		return devtools(text(p["method"]), p["params"])
	}
	return ""
}

// object reads the members of a JSON object by their exact names; none where there
// is no object, which whoever it is for will say. twice is a name that it has more
// than once: readers differ in which of them counts.
func object(raw []byte) (members map[string]json.RawMessage, twice string) {
	dec := json.NewDecoder(bytes.NewReader(raw))
	if t, err := dec.Token(); err != nil || t != json.Delim('{') {
		return nil, ""
	}
	members = map[string]json.RawMessage{}
	for dec.More() {
		t, err := dec.Token()
		name, ok := t.(string)
		var value json.RawMessage
		if err != nil || !ok || dec.Decode(&value) != nil {
			return members, ""
		}
		if _, there := members[name]; there {
			return members, name
		}
		members[name] = value
	}
	return members, ""
}

// text is a JSON string; "" for anything else.
func text(raw json.RawMessage) (s string) {
	if json.Unmarshal(raw, &s) != nil {
		return ""
	}
	return s
}

func ambiguous(name string) string { return fmt.Sprintf("%q is there twice", name) }

// domains are those of the DevTools protocol that act on pages alone.
var domains = []string{"Accessibility", "Animation", "Audits", "BackgroundService", "CSS", "CacheStorage", "Console", "DOM", "DOMDebugger",
	"DOMSnapshot", "DOMStorage", "Debugger", "DeviceOrientation", "Emulation", "EventBreakpoints", "FedCm", "Fetch", "HeadlessExperimental",
	"HeapProfiler", "IndexedDB", "Input", "Inspector", "LayerTree", "Log", "Media", "Network", "Overlay", "Page", "Performance",
	"PerformanceTimeline", "Profiler", "Runtime", "Schema", "Security", "ServiceWorker", "Storage", "WebAudio", "WebAuthn"}

// besides are commands of other domains that do no more.
var besides = []string{"Browser.getVersion", "Browser.grantPermissions", "Browser.setPermission", "Browser.resetPermissions",
	"Browser.getWindowForTarget", "Browser.getWindowBounds", "Browser.setWindowBounds", "Target.getTargets", "Target.getTargetInfo",
	"Target.createTarget", "Target.closeTarget", "Target.activateTarget", "Target.setDiscoverTargets"}

// never are commands of those domains that reach beyond pages.
var never = map[string]string{
	"Page.setDownloadBehavior":    "downloads go into the session's own directory",
	"Network.loadNetworkResource": "it fetches with the browser's own rights",
	"Page.addCompilationCache":    "it changes what the browser runs",
}

// devtools says why a command of the DevTools protocol may not reach a browser.
func devtools(method string, params json.RawMessage) string {
	if why := never[method]; why != "" {
		return method + ": " + why
	}
	domain, _, _ := strings.Cut(method, ".")
	if !slices.Contains(domains, domain) && !slices.Contains(besides, method) {
		return fmt.Sprintf("%q is not among the commands of the DevTools protocol that sessions may give: it acts on more than pages", method)
	}
	if method != "Page.navigate" && method != "Target.createTarget" {
		return ""
	}
	p, twice := object(params)
	if twice != "" {
		return ambiguous(twice)
	}
	return Address(text(p["url"]))
}

// Address says why a browser may not be sent to an address; "" when it may, or when
// it is none. Schemes are read as browsers read them (WHATWG URL, section 4.4).
func Address(address string) string {
	clean := strings.Map(func(r rune) rune {
		if r == '\t' || r == '\n' || r == '\r' {
			return -1
		}
		return r
	}, address)
	clean = strings.TrimFunc(clean, func(r rune) bool { return r <= ' ' })
	scheme, rest, found := strings.Cut(clean, ":")
	switch scheme = strings.ToLower(scheme); {
	case !found, scheme == "http", scheme == "https", scheme == "data":
		return ""
	case scheme == "about":
		if page, _, _ := strings.Cut(rest, "#"); page == "blank" || strings.HasPrefix(page, "blank?") {
			return ""
		}
	}
	return fmt.Sprintf("a session goes to http, https, data and about:blank, not to %.60q", address)
}
