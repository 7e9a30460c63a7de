package gecko

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
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
	"WebDriver:FindElementFromShadowRoot": shadowLocator, "WebDriver:FindElementsFromShadowRoot": shadowLocator,
	"WebDriver:NewWindow": windowType, "WebDriver:PerformActions": origins,
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
	// The size changes only when both of its parts are given, and so does the position.
	for _, both := range [][2]string{{"width", "height"}, {"x", "y"}} {
		a, okA := p[both[0]].(float64)
		b, okB := p[both[1]].(float64)
		delete(p, both[0])
		delete(p, both[1])
		if okA && okB {
			p[both[0]], p[both[1]] = math.Floor(a), math.Floor(b)
		}
	}
	return nil
}

// windowType follows section 11.5 "New Window": null is no hint.
func windowType(p map[string]any) error {
	if hint, there := p["type"]; there && hint == nil {
		delete(p, "type")
	}
	return nil
}

// origins follows section 15.6 "Processing actions", "process a pointer move
// action" and "process a wheel action": an origin is the viewport, the pointer
// where there is one, or an element.
func origins(p map[string]any) error {
	sources, _ := p["actions"].([]any)
	for _, source := range sources {
		s, _ := source.(map[string]any)
		items, _ := s["actions"].([]any)
		for _, item := range items {
			a, _ := item.(map[string]any)
			origin, there := a["origin"]
			if !there || (a["type"] != "pointerMove" && a["type"] != "scroll") {
				continue
			}
			element, _ := origin.(map[string]any)
			_, isElement := element[webdriver.WebElementIdentifier].(string)
			if origin != "viewport" && (origin != "pointer" || a["type"] == "scroll") && !isElement {
				return invalid("origin: expected viewport, pointer (of a pointer's move) or an element")
			}
		}
	}
	return nil
}

// awaits recognises scripts that may use await. Section 13.2.1 "execute a function
// body" has the body of an asynchronous function; the browser makes a plain one of
// it.
var awaits = regexp.MustCompile(`\bawait\b`)

// scriptAndArguments follows section 13.2 "Executing script", "extract the script
// arguments from a request".
func scriptAndArguments(p map[string]any) error {
	script, ok := p["script"].(string)
	if !ok {
		return invalid("script: expected a string")
	}
	if awaits.MatchString(script) {
		p["script"] = "return (async function () {\n" + script + "\n}).apply(this, arguments)"
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

// shadowLocator is locator where the search begins at a shadow root, which finds
// no tags by itself.
func shadowLocator(p map[string]any) error {
	if err := locator(p); err != nil {
		return err
	}
	if p["using"] == "tag name" {
		p["using"], p["value"] = "css selector", tagSelector(p["value"].(string))
	}
	return nil
}

// tagSelector is the CSS selector of a tag's name.
func tagSelector(name string) string {
	if name == "*" {
		return name
	}
	var b strings.Builder
	for i, r := range name {
		if r == '-' || r == '_' || r >= 0x80 || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || (i > 0 && r >= '0' && r <= '9') {
			b.WriteRune(r)
		} else {
			fmt.Fprintf(&b, `\%x `, r) // CSS Syntax, section 4.3.7
		}
	}
	return b.String()
}

// answers change what the browser answers into what the standard has, by the
// browser's name for the command.
var answers = map[string]func(json.RawMessage) (any, error){
	"WebDriver:GetElementRect": func(raw json.RawMessage) (any, error) { // section 12.4.7: these four
		var rect struct {
			X      float64 `json:"x"`
			Y      float64 `json:"y"`
			Width  float64 `json:"width"`
			Height float64 `json:"height"`
		}
		err := json.Unmarshal(raw, &rect)
		return rect, err
	},
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
