package combo

import (
	"cmp"
	"fmt"
	"slices"
)

// Lab is what a plan has to know of the agents. Answers may not change while a
// plan is made.
type Lab interface {
	// Versions lists the versions of the browser, of the engine, or of both that the
	// values name, that some agent of their system has, each with its channel.
	Versions(values map[string]string) []string
	// Lacks says why no agent could ever run a combination; "" when one could.
	Lacks(values map[string]string) string
}

// labAxes are the axes that say something of an agent.
var labAxes = []string{"browser", "engine", "channel", "version", "os", "mode"}

// frozen replaces a version selector by the version it means in the lab.
func frozen(lab Lab, values map[string]string) (map[string]string, error) {
	version, ok := values["version"]
	if !ok || lab == nil {
		return values, nil
	}
	sel, err := ParseSelector(version)
	if err != nil {
		return nil, err
	}
	there := lab.Versions(values)
	if channel := values["channel"]; channel != "" {
		there = slices.DeleteFunc(slices.Clone(there), func(v string) bool { return channelOf(v) != channel })
	}
	got, err := sel.Resolve(there)
	if err != nil {
		return nil, fmt.Errorf("%s %s is unresolved: %w", cmp.Or(values["browser"], values["engine"]), version, err)
	}
	out := make(map[string]string, len(values))
	for k, v := range values {
		out[k] = v
	}
	out["version"] = got
	return out, nil
}

// addLab adds what the lab cannot do as a rule, so that covers keep to what can
// be run. A whole product only leaves out versions that cannot be resolved: what
// else is impossible stays visible in it.
func (p *problem) addLab(lab Lab, whole bool) error {
	var axes []int
	named := map[string]bool{}
	for i, a := range p.axes {
		if slices.Contains(labAxes, a.Name) {
			axes = append(axes, i)
			named[a.Name] = true
		}
	}
	if lab == nil || len(axes) == 0 || (whole && !named["version"]) {
		return nil
	}
	why := func(values map[string]string) string {
		got, err := frozen(lab, values)
		switch {
		case err != nil:
			return err.Error()
		case whole:
			return ""
		}
		return lab.Lacks(got)
	}
	at := func(value func(i, axis int) int) map[string]string {
		out := map[string]string{}
		for i, a := range axes {
			if v := value(i, a); v != free {
				out[p.axes[a].Name] = p.axes[a].Values[v]
			}
		}
		return out
	}
	last := ""
	err := p.addRule("the lab", axes, func(values []int) bool {
		reason := why(at(func(i, _ int) int { return values[i] }))
		last = cmp.Or(reason, last)
		return reason == ""
	})
	if err != nil {
		return err
	}
	p.rules[len(p.rules)-1].why = func(row []int) string {
		values := at(func(_, axis int) int { return row[axis] })
		if reason := why(values); reason != "" {
			return reason
		}
		return "no agent can do it with any value of the other axes; such as: " + last
	}
	return nil
}
