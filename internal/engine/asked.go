package engine

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/webdriver"
)

// Refused means that a session asks for something that belongs to the agent: a
// program to start, a place to write to, somebody else's browser.
type Refused struct{ Why string }

func (e *Refused) Error() string { return e.Why }

// Vendor is an engine's extension capability, as far as sessions may use it.
type Vendor struct {
	Key    string            // such as goog:chromeOptions
	Fields []string          // names in it that a session may use
	Why    map[string]string // of names, switches and preferences that many ask for: why they are not to be had
	// Switches of the browser's command line, without dashes.
	Switches Names
	// Decided are switches that a session may ask for in vain: the agent decides.
	Decided []string
	Prefs   Names
}

// Names are names that may be used: each as it stands, or with a star at its end
// all that begin so. Case does not count.
type Names []string

// Hold reports whether a name is among them.
func (n Names) Hold(name string) bool {
	name = strings.ToLower(name)
	return slices.ContainsFunc(n, func(known string) bool {
		known = strings.ToLower(known)
		if family, ok := strings.CutSuffix(known, "*"); ok {
			return strings.HasPrefix(name, family)
		}
		return name == known
	})
}

// refuse says why a session cannot have something, and who could change that.
func (v Vendor) refuse(what, name, allow string) *Refused {
	why := v.Why[name]
	if why == "" {
		why = "it is not on the list of what sessions may ask for"
	}
	return &Refused{fmt.Sprintf("%s: %s cannot be had here: %s. Leave it out, or have the agent started with --allow %s",
		v.Key, what, why, allow)}
}

// Of reads the extension capability out of what was asked for; an empty object
// when there is none. allow is what the agent's owner lets sessions ask for besides.
func (v Vendor) Of(asked webdriver.Capabilities, allow Names) (map[string]any, error) {
	raw, there := asked[v.Key]
	if !there {
		return map[string]any{}, nil
	}
	fields, ok := raw.(map[string]any)
	if !ok {
		return nil, &Refused{v.Key + ": expected an object"}
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		if !slices.Contains(v.Fields, name) && !allow.Hold(v.Key+"."+name) {
			return nil, v.refuse(name, name, v.Key+"."+name)
		}
	}
	return maps.Clone(fields), nil
}

// Preferences checks the names of preferences. Those within objects are joined by
// dots, which is how browsers name them.
func (v Vendor) Preferences(prefs map[string]any, allow Names) error {
	return v.preferences("", prefs, allow)
}

func (v Vendor) preferences(above string, prefs map[string]any, allow Names) error {
	for _, name := range slices.Sorted(maps.Keys(prefs)) {
		full := above + name
		if v.Prefs.Hold(full) || allow.Hold(full) {
			continue
		}
		if inner, ok := prefs[name].(map[string]any); ok && len(inner) > 0 {
			if err := v.preferences(full+".", inner, allow); err != nil {
				return err
			}
			continue
		}
		return v.refuse("the preference "+full, full, full)
	}
	return nil
}

// Strings reads a list of strings out of an extension capability.
func (v Vendor) Strings(fields map[string]any, name string) ([]string, error) {
	raw, there := fields[name]
	if !there {
		return nil, nil
	}
	list, ok := raw.([]any)
	out := make([]string, len(list))
	for i, x := range list {
		s, isText := x.(string)
		ok = ok && isText
		out[i] = s
	}
	if !ok {
		return nil, &Refused{fmt.Sprintf("%s: %s: expected a list of strings", v.Key, name)}
	}
	return out, nil
}

// Arguments reads the switches of the browser's command line out of an extension
// capability. Each is one switch, not a word or a file for the browser to open;
// dashes may be left out where the driver adds them. left are those that the agent
// decides itself.
func (v Vendor) Arguments(fields map[string]any, dashes bool, allow Names) (args, left []string, err error) {
	asked, err := v.Strings(fields, "args")
	if err != nil {
		return nil, nil, err
	}
	for _, arg := range asked {
		name, _, _ := strings.Cut(strings.ToLower(strings.TrimLeft(arg, "-")), "=")
		switch name = strings.TrimSpace(name); {
		case dashes && !strings.HasPrefix(arg, "-"), name == "":
			return nil, nil, &Refused{fmt.Sprintf("%s: %q is no switch of a command line", v.Key, arg)}
		case slices.Contains(v.Decided, name):
			left = append(left, arg)
		case v.Switches.Hold(name), allow.Hold("--" + name):
			args = append(args, arg)
		default:
			return nil, nil, v.refuse("the switch "+arg, name, "--"+name)
		}
	}
	return args, left, nil
}

// Asking joins what a session asks for with the extension capability as the
// agent has settled it. Sessions of our own ask for nothing and get what the
// lab's scripts need.
func (v Vendor) Asking(o Options, settled map[string]any, bidi bool) webdriver.Capabilities {
	caps := webdriver.Capabilities{}
	if o.Asked != nil {
		maps.Copy(caps, o.Asked)
		if caps["webSocketUrl"] == false { // as if it were not asked for; some drivers know no more than that it is there
			delete(caps, "webSocketUrl")
		}
	} else {
		caps["acceptInsecureCerts"], caps["unhandledPromptBehavior"] = true, "ignore"
		if bidi {
			caps["webSocketUrl"] = true
		}
	}
	if o.Door != "" { // which leads through the proxy that was asked for
		delete(caps, "proxy")
	}
	if settled != nil {
		caps[v.Key] = settled
	} else {
		delete(caps, v.Key)
	}
	return caps
}
