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

// Vendor is an engine's extension capability, of which the agent decides some
// parts itself.
type Vendor struct {
	Key     string   // such as goog:chromeOptions
	Agents  []string // names in it that are the agent's alone
	Unknown []string // names in it that the driver knows and the agent does not serve
}

// Of reads the extension capability out of what was asked for; an empty object
// when there is none.
func (v Vendor) Of(asked webdriver.Capabilities) (map[string]any, error) {
	raw, there := asked[v.Key]
	if !there {
		return map[string]any{}, nil
	}
	fields, ok := raw.(map[string]any)
	if !ok {
		return nil, &Refused{v.Key + ": expected an object"}
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		switch {
		case slices.Contains(v.Agents, name):
			return nil, &Refused{fmt.Sprintf("%s: %s is for the agent to choose: leave it out", v.Key, name)}
		case slices.Contains(v.Unknown, name):
			return nil, &Refused{fmt.Sprintf("%s: %s cannot be had here: leave it out", v.Key, name)}
		}
	}
	return maps.Clone(fields), nil
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
// capability. Each is one switch, not a word or a file for the browser to open,
// and none of those that are the agent's alone; dashes may be left out where the
// driver adds them.
func (v Vendor) Arguments(fields map[string]any, dashes bool, own ...string) ([]string, error) {
	args, err := v.Strings(fields, "args")
	if err != nil {
		return nil, err
	}
	for _, arg := range args {
		name, _, _ := strings.Cut(strings.ToLower(strings.TrimLeft(arg, "-")), "=")
		if (dashes && !strings.HasPrefix(arg, "-")) || slices.Contains(own, strings.TrimSpace(name)) {
			return nil, &Refused{fmt.Sprintf("%s: the argument %q is for the agent to choose: leave it out", v.Key, arg)}
		}
	}
	return args, nil
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
