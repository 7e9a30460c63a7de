package gecko

import (
	"math"
	"slices"
	"strings"

	"parallelpane/internal/webdriver"
)

// checks are what the standard wants of parameters and the browser does not see
// to by itself, by the browser's name for the command. They may change the
// parameters.
var checks = map[string]func(map[string]any) error{
	"WebDriver:SwitchToFrame": frameID, "WebDriver:SetWindowRect": windowRect,
	"WebDriver:ExecuteScript": scriptAndArguments, "WebDriver:ExecuteAsyncScript": scriptAndArguments,
	"WebDriver:FindElement": locator, "WebDriver:FindElements": locator,
	"WebDriver:FindElementFromShadowRoot": locator, "WebDriver:FindElementsFromShadowRoot": locator,
	"WebAuthn:AddCredential": credential,
}

func invalid(format string, args ...any) error {
	return webdriver.Errorf(webdriver.InvalidArgument, format, args...)
}

// whole says whether a value is a whole number within bounds.
func whole(v any, least, most float64) bool {
	n, ok := v.(float64)
	return ok && n == math.Trunc(n) && n >= least && n <= most
}

// frameID follows section 11.6 "Switch To Frame".
func frameID(p map[string]any) error {
	switch id := p["id"].(type) {
	case nil:
		if _, there := p["id"]; there {
			return nil
		}
	case float64:
		if whole(id, 0, 1<<16-1) {
			return nil
		}
	case map[string]any:
		if _, ok := id[webdriver.WebElementIdentifier].(string); ok {
			return nil
		}
	}
	return invalid("id: expected null, a whole number from 0 to 65535, or an element")
}

// windowRect follows section 11.8.2 "Set Window Rect".
func windowRect(p map[string]any) error {
	for name, least := range map[string]float64{"x": -1 << 31, "y": -1 << 31, "width": 0, "height": 0} {
		if n, ok := p[name].(float64); p[name] != nil && (!ok || n < least || n > 1<<31-1) {
			return invalid("%s: expected null or a number from %.0f to 2147483647", name, least)
		}
	}
	return nil
}

// scriptAndArguments follows section 13.2 "Executing script", "extract the script
// arguments from a request".
func scriptAndArguments(p map[string]any) error {
	if _, ok := p["script"].(string); !ok {
		return invalid("script: expected a string")
	}
	if _, ok := p["args"].([]any); !ok {
		return invalid("args: expected a list")
	}
	return nil
}

var strategies = []string{"css selector", "link text", "partial link text", "tag name", "xpath"}

// locator follows section 12.3 "Find", and drops what the browser would take for
// the element to start from: that comes from the path alone.
func locator(p map[string]any) error {
	if using, _ := p["using"].(string); !slices.Contains(strategies, using) {
		return invalid("using: expected one of %s", strings.Join(strategies, ", "))
	}
	if _, ok := p["value"].(string); !ok {
		return invalid("value: expected a string")
	}
	delete(p, "element")
	return nil
}

// credential wraps the parameters of "Add Credential" (W3C Web Authentication,
// section 11.5) as the browser wants them.
func credential(p map[string]any) error {
	inner := map[string]any{}
	for name, v := range p {
		inner[name] = v
		delete(p, name)
	}
	p["credentials"] = inner
	return nil
}
