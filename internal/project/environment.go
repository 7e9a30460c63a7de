package project

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"go.yaml.in/yaml/v3"

	"parallelpane/internal/script"
)

// Value is a setting of a run with where it comes from: base, or a variable.
type Value struct {
	Name  string `json:"name"` // base, or vars.NAME
	Value string `json:"value"`
	From  string `json:"from"`
	// Over are values of the same name that it goes before, the nearest first.
	Over []Value `json:"over"`
}

// Layer are settings that go before those of a project's environment.
type Layer struct {
	From string
	Base string
	Vars map[string]string
}

// layers are those of an environment within its project, from what counts least on: the
// project's variables, the environments it comes from, its own.
func (e Environment) layers(p *Project) []Layer {
	out := []Layer{{From: "the project", Vars: p.Vars}}
	for _, name := range slices.Backward(e.lineage) {
		for _, o := range p.Environments {
			if o.Name == name {
				out = append(out, Layer{"environment " + o.Name, o.own.Base, o.own.Vars})
			}
		}
	}
	return out
}

// Explain says of every setting of an environment, with further layers before it, what it
// comes to and why, sorted by name.
func (p *Project) Explain(environment string, further ...Layer) ([]Value, error) {
	e, err := p.Environment(environment)
	if err != nil {
		return nil, err
	}
	known := map[string]Value{}
	for _, l := range append(e.layers(p), further...) {
		set := func(name, value string) {
			v := Value{Name: name, Value: value, From: l.From, Over: []Value{}}
			if old, there := known[name]; there {
				v.Over = append([]Value{{Name: name, Value: old.Value, From: old.From, Over: []Value{}}}, old.Over...)
			}
			known[name] = v
		}
		if l.Base != "" {
			set("base", l.Base)
		}
		for _, name := range slices.Sorted(maps.Keys(l.Vars)) {
			set("vars."+name, l.Vars[name])
		}
	}
	out := slices.Collect(maps.Values(known))
	slices.SortFunc(out, func(a, b Value) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

// inherit gives every environment what it has from the project and from the one it comes
// from.
func (r *reader) inherit(p *Project, nodes map[string]*yaml.Node) {
	byName := map[string]*Environment{}
	for i := range p.Environments {
		e := &p.Environments[i]
		byName[e.Name] = e
		e.own.Base, e.own.Vars = e.Base, e.Vars
	}
	for i := range p.Environments {
		e := &p.Environments[i]
		e.lineage = []string{e.Name}
		base, all := e.own.Base, []map[string]string{e.own.Vars}
		for at := e; at.From != ""; {
			next := byName[at.From]
			if next == nil {
				r.Fail(nodes[at.Name], "environment %s: from: there is no environment %q", at.Name, at.From)
				break
			}
			if slices.Contains(e.lineage, next.Name) {
				r.Fail(nodes[e.Name], "environment %s: from: it comes from itself, by way of %s", e.Name, next.Name)
				break
			}
			e.lineage = append(e.lineage, next.Name)
			base, all = cmp.Or(base, next.own.Base), append(all, next.own.Vars)
			at = next
		}
		e.Base, e.Vars = base, maps.Clone(p.Vars)
		if e.Vars == nil {
			e.Vars = map[string]string{}
		}
		for _, vars := range slices.Backward(all) {
			maps.Copy(e.Vars, vars)
		}
	}
}

func (r *reader) environment(v script.Entry) Environment {
	out := Environment{Name: v.Key, Vars: map[string]string{}}
	r.name(v.Node, v.Key, "environment")
	for _, e := range r.Mapping(v.Value, "environment "+v.Key) {
		switch e.Key {
		case "base":
			out.Base = r.String(e.Value, "base")
			if err := CheckBase(out.Base); err != nil {
				r.Fail(e.Value, "base: %v", err)
			}
		case "from":
			out.From = r.String(e.Value, "from")
		case "vars":
			out.Vars = r.vars(e.Value)
		default:
			r.Unknown(e, "environment "+v.Key, "base", "from", "vars")
		}
	}
	return out
}

func (r *reader) vars(n *yaml.Node) map[string]string {
	out := map[string]string{}
	for _, x := range r.Mapping(n, "vars") {
		out[x.Key] = r.String(x.Value, "vars."+x.Key)
	}
	return out
}

// String is the setting in one line.
func (v Value) String() string { return fmt.Sprintf("%s = %s (%s)", v.Name, v.Value, v.From) }
