// Package project reads a project's directory: its file pane.yaml, the scripts
// of its suites, and the bundle that carries both to the service and on to the
// agents. It talks to nobody.
package project

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v3"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/mending"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/script"
)

// FileName is the project file's name.
const FileName = "pane.yaml"

// Project is what pane.yaml says.
type Project struct {
	Name         string
	Suites       []Suite
	Matrices     []combo.Matrix
	Environments []Environment
	Vars         map[string]string // of every environment
	Devices      []device.Profile  // besides those of the catalogue
	Marker       string            // attribute that marks elements for tests
	Mending      mending.Policy    // what is done about locators that find nothing any more; "" where it does not say
	Blocks       []string          // globs of files with blocks that scripts share
	Default      Default
}

// Kinds of suites.
const (
	ScriptKind  = "script"
	CommandKind = "command"
	SeveralKind = "several" // made of other suites, whose tests run on one wall
)

// Suite is a named set of tests.
type Suite struct {
	Name    string
	Kind    string   // one of the kinds
	Parts   []Suite  // what it is made of; of that kind alone
	Scripts []string // globs of script files
	Command *suite.Command
	Cases   []string     // globs of the files of a command suite, for each of which the command runs once
	Files   []string     // globs of further files that go into the bundle
	Needs   fleet.Needs  // what its agents must have
	Secrets []string     // names of those that its runs are given
	Data    *script.Data // of a command suite: for each row of which the command runs once; may be nil
	At      source.Position
}

// Environment is a deployment under test.
type Environment struct {
	Name string            `json:"name"`
	Base string            `json:"base"`
	Vars map[string]string `json:"vars"` // with those of the project and of the environments it comes from
	From string            `json:"from,omitempty"`

	own struct {
		Base string
		Vars map[string]string
	} // without what it has from others
	lineage []string // itself, and the environments it comes from
}

// Default names what is meant when a request names nothing.
type Default struct {
	Suite, Matrix, Environment string
}

// Files is a project's tree, on disk or in a bundle. Names use slashes.
type Files interface {
	Glob(pattern string) ([]string, error)
	Read(name string) ([]byte, error)
}

// Dir is a tree on disk.
type Dir string

// Glob lists the regular files that match, sorted.
func (d Dir) Glob(pattern string) ([]string, error) {
	names, err := doublestar.Glob(os.DirFS(string(d)), pattern, doublestar.WithFilesOnly(), doublestar.WithNoFollow())
	slices.Sort(names)
	return names, err
}

// Read reads a file, which may not leave the tree by a link.
func (d Dir) Read(name string) ([]byte, error) {
	root, err := os.OpenRoot(string(d))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.ReadFile(filepath.FromSlash(name))
}

// FindRoot looks for pane.yaml in dir and its parents.
func FindRoot(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for d := dir; ; d = filepath.Dir(d) {
		if info, err := os.Stat(filepath.Join(d, FileName)); err == nil && info.Mode().IsRegular() {
			return d, nil
		}
		if d == filepath.Dir(d) {
			return "", fmt.Errorf("no %s in %s or above it: run this inside a project, or name one with --dir", FileName, dir)
		}
	}
}

// Load reads and checks pane.yaml. An error about its contents is
// script.Problems.
func Load(files Files) (*Project, error) {
	src, err := files.Read(FileName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the project has no %s", FileName)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", FileName, err)
	}
	return Parse(FileName, src)
}

// Parse reads a project file.
func Parse(file string, src []byte) (*Project, error) {
	root, problem := script.Document(file, src)
	if problem != nil {
		return nil, source.Problems{*problem}
	}
	r := &reader{Reader: script.Reader{File: file}}
	p := r.project(root)
	if len(r.Problems) > 0 {
		return nil, r.Problems
	}
	return p, nil
}

type reader struct {
	script.Reader
	further []device.Profile
}

var nameForm = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,63}$`)

func (r *reader) name(n *yaml.Node, s, what string) {
	if !nameForm.MatchString(s) {
		r.Fail(n, "%s: %q is not a name: letters, digits, '.', '-' and '_', at most 64", what, s)
	}
}

func (r *reader) project(root *yaml.Node) *Project {
	p := &Project{Marker: script.DefaultMarker}
	var def *yaml.Node
	nodes := map[string]*yaml.Node{}                    // of environments
	several := map[string]script.Entry{}                // what suites are made of
	for _, e := range r.Mapping(root, "project file") { // matrices name devices
		if e.Key == "devices" {
			for _, d := range r.Mapping(e.Value, "devices") {
				p.Devices = append(p.Devices, r.device(d))
			}
		}
	}
	r.further = p.Devices
	for _, e := range r.Mapping(root, "project file") {
		switch e.Key {
		case "project":
			p.Name = r.String(e.Value, "project")
			r.name(e.Value, p.Name, "project")
			if p.Name == fleet.Shared {
				r.Fail(e.Value, "project: %q is the name of the pool that serves every project", p.Name)
			}
		case "suites":
			for _, s := range r.Mapping(e.Value, "suites") {
				of, parts := r.suite(s)
				p.Suites = append(p.Suites, of)
				if of.Kind == SeveralKind {
					several[of.Name] = parts
				}
			}
		case "matrices":
			for _, m := range r.Mapping(e.Value, "matrices") {
				p.Matrices = append(p.Matrices, r.matrix(m, true))
			}
		case "environments":
			for _, v := range r.Mapping(e.Value, "environments") {
				p.Environments = append(p.Environments, r.environment(v))
				nodes[v.Key] = v.Node
			}
		case "vars":
			p.Vars = r.vars(e.Value)
		case "devices":
		case "blocks":
			p.Blocks = r.globs(e.Value, "blocks")
		case "marker":
			if p.Marker = r.String(e.Value, "marker"); !script.AttributeForm.MatchString(p.Marker) {
				r.Fail(e.Value, "marker: %q is not the name of an attribute, such as %s", p.Marker, script.DefaultMarker)
			}
		case "mending":
			p.Mending = mending.Policy(r.String(e.Value, "mending"))
			if err := p.Mending.Check(); err != nil {
				r.Fail(e.Value, "mending: %v", err)
			}
		case "default":
			def = e.Value
		default:
			r.Unknown(e, "project file", "project", "suites", "matrices", "environments", "vars", "devices", "blocks", "marker",
				"mending", "default")
		}
	}
	r.inherit(p, nodes)
	if len(r.Problems) == 0 {
		r.gather(p, several)
	}
	if def != nil {
		r.defaults(def, p)
	}
	if len(r.Problems) == 0 && p.Name == "" {
		r.Fail(root, "project file: expected project: NAME")
	}
	return p
}

// suite reads one; parts is where a suite that is made of others names them.
func (r *reader) suite(s script.Entry) (out Suite, parts script.Entry) {
	out = Suite{Name: s.Key, Kind: ScriptKind, At: r.At(s.Node)}
	kind := ""
	var data *yaml.Node
	r.name(s.Node, s.Key, "suite")
	before := len(r.Problems)
	for _, e := range r.Mapping(s.Value, "suite "+s.Key) {
		switch e.Key {
		case "kind":
			if kind = r.String(e.Value, "kind"); kind != ScriptKind && kind != CommandKind && kind != SeveralKind {
				r.Fail(e.Value, "kind: expected script, command or several, found %q", kind)
			}
		case "command", "list", "prepare", "cases", "results", "limit", "env":
			if out.Command == nil {
				out.Kind, out.Command = CommandKind, &suite.Command{Results: suite.JUnit, Env: map[string]string{}}
			}
			r.command(&out, e)
		case "suites":
			out.Kind, parts = SeveralKind, e
		case "scripts":
			out.Scripts = r.globs(e.Value, "scripts")
		case "files":
			out.Files = r.globs(e.Value, "files")
		case "needs":
			out.Needs = r.needs(e.Value)
		case "secrets":
			out.Secrets = r.Strings(e.Value, "secrets")
			for _, name := range out.Secrets {
				if !envName.MatchString(name) {
					r.Fail(e.Value, "secrets: %q is no name of one: letters, digits and '_', not beginning with a digit", name)
				}
			}
		case "data":
			data = e.Node
			out.Data = r.Data(e.Value)
		default:
			r.Unknown(e, "suite "+s.Key, "kind", "scripts", "files", "command", "list", "prepare", "cases", "results", "limit", "env",
				"needs", "secrets", "data", "suites")
		}
	}
	switch {
	case len(r.Problems) > before:
	case kind != "" && kind != out.Kind:
		r.Fail(s.Node, "suite %s: it has what a %s suite has, and says kind: %s", s.Key, out.Kind, kind)
	case out.Kind == SeveralKind && slices.ContainsFunc(r.Mapping(s.Value, "suite "+s.Key), func(e script.Entry) bool {
		return e.Key != "kind" && e.Key != "suites"
	}):
		r.Fail(s.Node, "suite %s: a suite that is made of others has nothing but their names: suites", s.Key)
	case out.Kind == SeveralKind:
	case out.Command != nil:
		r.commandSuite(s, out)
	case data != nil:
		r.Fail(data, "data: each script says by itself which rows it takes; here it goes with command")
	case len(out.Scripts) == 0:
		r.Fail(s.Node, "suite %s: expected scripts, a list of globs such as tests/**/*%s", s.Key, script.Suffix)
	}
	return out, parts
}

// needs reads what agents must have: facts, each with a value or several, or a bound such
// as ">=20".
func (r *reader) needs(n *yaml.Node) fleet.Needs {
	out := fleet.Needs{}
	for _, e := range r.Mapping(n, "needs") {
		var words []string
		for _, v := range r.Strings(e.Value, "needs "+e.Key) {
			words = append(words, strings.Join(strings.Fields(v), ""))
		}
		got, err := fleet.ParseNeeds([]string{e.Key + "=" + strings.Join(words, "|")})
		if err != nil {
			r.Fail(e.Node, "needs: %v", err)
		} else if e.Key == "pool" {
			r.Fail(e.Node, "needs: a project's pools follow from the project: leave pool out")
		}
		out = out.With(got)
	}
	return out
}

func (r *reader) globs(n *yaml.Node, what string) []string {
	globs := r.Strings(n, what)
	for _, g := range globs {
		if !doublestar.ValidatePattern(g) || !filepath.IsLocal(filepath.FromSlash(g)) {
			r.Fail(n, "%s: %q is not a glob within the project", what, g)
		} else if why := dear(g); why != "" {
			r.Fail(n, "%s: %.80q: %s", what, g, why)
		}
	}
	return globs
}

// dear says what makes a glob cost more than it is long, for every file that it is
// held against; "" for one that does not. Every ** and every choice of a brace may
// be tried with every other.
func dear(glob string) string {
	const longest, choices = 400, 64
	if len(glob) > longest {
		return fmt.Sprintf("a glob has at most %d characters", longest)
	}
	ways, inside, here := 1, false, 1
	for i := range len(glob) {
		switch c := glob[i]; {
		case c == '{' && inside:
			return "braces do not stand within braces"
		case c == '{':
			inside, here = true, 1
		case c == ',' && inside:
			here++
		case c == '}' && inside:
			inside = false
			ways *= here
		case c == '*' && i > 0 && glob[i-1] == '*':
			ways *= 2
		}
		if ways > choices || here > choices {
			return fmt.Sprintf("its braces and ** come to more than %d choices; write several globs", choices)
		}
	}
	return ""
}

// Matrices reads the matrices of any YAML file that has them, whatever else is
// in it. Unlike in a project, values are not checked: an axis may mean anything.
func Matrices(file string, src []byte) ([]combo.Matrix, error) {
	root, problem := script.Document(file, src)
	if problem != nil {
		return nil, source.Problems{*problem}
	}
	r := &reader{Reader: script.Reader{File: file}}
	var out []combo.Matrix
	for _, e := range r.Mapping(root, "file") {
		if e.Key == "matrices" {
			for _, m := range r.Mapping(e.Value, "matrices") {
				out = append(out, r.matrix(m, false))
			}
		}
	}
	if len(r.Problems) == 0 && len(out) == 0 {
		r.Fail(root, "file: expected matrices, each with its axes")
	}
	if len(r.Problems) > 0 {
		return nil, r.Problems
	}
	return out, nil
}

// matrix reads one matrix; known asks for values that the lab understands.
func (r *reader) matrix(m script.Entry, known bool) combo.Matrix {
	what := "matrix " + m.Key
	out := combo.Matrix{Name: m.Key}
	r.name(m.Node, m.Key, "matrix")
	before := len(r.Problems)
	for _, e := range r.Mapping(m.Value, what) {
		switch e.Key {
		case "axes":
			for _, a := range r.Mapping(e.Value, "axes") {
				axis := combo.Axis{Name: a.Key, Values: r.Strings(a.Value, "axis "+a.Key)}
				if known {
					r.understood(a.Value, axis)
				}
				out.Axes = append(out.Axes, axis)
			}
		case "only":
			out.Only = r.Strings(e.Value, "only")
		case "add":
			for _, item := range r.List(e.Value, "add") {
				values := map[string]string{}
				for _, v := range r.Mapping(item, "add") {
					values[v.Key] = r.String(v.Value, "add "+v.Key)
				}
				out.Add = append(out.Add, values)
			}
		case "drop":
			for _, item := range r.List(e.Value, "drop") {
				d := combo.Drop{}
				for _, v := range r.Mapping(item, "drop") {
					d[v.Key] = r.Strings(v.Value, "drop "+v.Key)
				}
				out.Drop = append(out.Drop, d)
			}
		case "cover":
			out.Cover = r.cover(e.Value)
		case "seed":
			seed, err := strconv.ParseUint(r.String(e.Value, "seed"), 10, 64)
			if err != nil {
				r.Fail(e.Value, "seed: expected a whole number, 0 or more")
			}
			out.Seed = seed
		case "effort":
			if out.Effort = combo.Effort(r.String(e.Value, "effort")); out.Effort != combo.Normal && out.Effort != combo.High {
				r.Fail(e.Value, "effort: expected normal or high, found %q", out.Effort)
			}
		default:
			r.Unknown(e, what, "axes", "only", "add", "drop", "cover", "seed", "effort")
		}
	}
	if len(r.Problems) == before {
		if err := out.Check(); err != nil {
			r.Fail(m.Node, "%v", err)
		} else if err := out.CheckRules(); err != nil {
			r.Fail(m.Node, "%v", err)
		}
	}
	return out
}

// cover reads a cover's name or strength, or both its strength and its axes.
func (r *reader) cover(n *yaml.Node) (c combo.Cover) {
	parse := func(n *yaml.Node) combo.Cover {
		got, err := combo.ParseCover(r.String(n, "cover"))
		if err != nil {
			r.Fail(n, "%v", err)
		}
		return got
	}
	if n.Kind != yaml.MappingNode {
		return parse(n)
	}
	for _, e := range r.Mapping(n, "cover") {
		switch e.Key {
		case "strength":
			c.Strength = parse(e.Value).Strength
		case "axes":
			c.Axes = r.Strings(e.Value, "cover axes")
		default:
			r.Unknown(e, "cover", "strength", "axes")
		}
	}
	if c.Strength == 0 {
		r.Fail(n, "cover: expected a strength beside the axes")
	}
	return c
}

// understood checks the values of axes that mean something to the lab.
func (r *reader) understood(n *yaml.Node, a combo.Axis) {
	for i, v := range a.Values {
		at := n
		if n.Kind == yaml.SequenceNode {
			at = n.Content[i]
		}
		var err error
		switch a.Name {
		case "device":
			if _, err = device.Find(v, r.further...); err != nil {
				names := device.Names(r.further...)
				hint := ""
				if near := source.Nearest(v, names); near != "" {
					hint = fmt.Sprintf(" (did you mean %q?)", near)
				}
				err = fmt.Errorf("unknown device %q%s; there are %s", v, hint, strings.Join(names, ", "))
			}
		case "version":
			if _, err = combo.ParseSelector(v); err != nil {
				err = fmt.Errorf("version: %w", err)
			}
		case "viewport", "locale", "timezone", "scheme", "motion", "contrast", "colours":
			_, err = device.Catalogue[0].With(map[string]string{a.Name: v})
		}
		if err != nil {
			r.Fail(at, "%v", err)
		}
	}
}

// device reads a device of the project's own.
func (r *reader) device(d script.Entry) device.Profile {
	out := device.Profile{Name: d.Key, Title: d.Key, Density: 1}
	r.name(d.Node, d.Key, "device")
	if slices.Contains(device.Names(), d.Key) {
		r.Fail(d.Node, "device %s: the catalogue has one of this name", d.Key)
	}
	truth := func(n *yaml.Node, what string) bool {
		v, err := strconv.ParseBool(r.String(n, what))
		if err != nil {
			r.Fail(n, "%s: expected true or false", what)
		}
		return v
	}
	before := len(r.Problems)
	for _, e := range r.Mapping(d.Value, "device "+d.Key) {
		switch e.Key {
		case "title":
			out.Title = r.String(e.Value, "title")
		case "size":
			var err error
			if out.Size, err = device.ParseSize(r.String(e.Value, "size")); err != nil {
				r.Fail(e.Value, "size: %v", err)
			}
		case "density":
			v, err := strconv.ParseFloat(r.String(e.Value, "density"), 64)
			if err != nil {
				r.Fail(e.Value, "density: expected a number")
			}
			out.Density = v
		case "touch":
			out.Touch = truth(e.Value, "touch")
		case "handheld":
			out.Handheld = truth(e.Value, "handheld")
		case "network":
			out.Network = r.String(e.Value, "network")
		case "cpu":
			v, err := strconv.ParseFloat(r.String(e.Value, "cpu"), 64)
			if err != nil {
				r.Fail(e.Value, "cpu: expected how many times slower, such as 4")
			}
			out.CPU = v
		default:
			r.Unknown(e, "device "+d.Key, "title", "size", "density", "touch", "handheld", "network", "cpu")
		}
	}
	if err := out.Check(); err != nil && len(r.Problems) == before {
		r.Fail(d.Node, "device %s: %v", d.Key, err)
	}
	return out
}

// Profile is what a combination emulates.
func (p *Project) Profile(values map[string]string) (device.Profile, error) {
	d, err := device.Find(values["device"], p.Devices...)
	if err != nil {
		return d, err
	}
	return d.With(values)
}

// CheckBase says what is wrong with a base address.
func CheckBase(base string) error {
	u, err := url.Parse(base)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return fmt.Errorf("expected an address such as https://desk.example, found %q", base)
	}
	if u.User != nil {
		return errors.New("an address must not carry credentials: they would show in logs")
	}
	return nil
}

func (r *reader) defaults(n *yaml.Node, p *Project) {
	for _, e := range r.Mapping(n, "default") {
		name := r.String(e.Value, e.Key)
		var err error
		switch e.Key {
		case "suite":
			p.Default.Suite = name
			_, err = p.Suite(name)
		case "matrix":
			p.Default.Matrix = name
			_, err = p.Matrix(name)
		case "environment":
			p.Default.Environment = name
			_, err = p.Environment(name)
		default:
			r.Unknown(e, "default", "suite", "matrix", "environment")
		}
		if err != nil {
			r.Fail(e.Value, "default: %v", err)
		}
	}
}

// pick finds a thing by name. No name means the default, or the only one.
func pick[T any](kind, name, fallback string, all []T, nameOf func(T) string) (T, error) {
	var none T
	if name == "" {
		name = fallback
	}
	if name == "" && len(all) == 1 {
		return all[0], nil
	}
	names := make([]string, len(all))
	for i, x := range all {
		if names[i] = nameOf(x); names[i] == name && name != "" {
			return x, nil
		}
	}
	switch {
	case len(all) == 0:
		return none, fmt.Errorf("the project has no %s", kind)
	case name == "":
		return none, fmt.Errorf("say which %s: the project has %s", kind, strings.Join(names, ", "))
	}
	hint := ""
	if near := source.Nearest(name, names); near != "" {
		hint = fmt.Sprintf(" (did you mean %q?)", near)
	}
	return none, fmt.Errorf("unknown %s %q%s: the project has %s", kind, name, hint, strings.Join(names, ", "))
}

// Suite returns a suite by name; "" means the default or the only one.
func (p *Project) Suite(name string) (Suite, error) {
	return pick("suite", name, p.Default.Suite, p.Suites, func(s Suite) string { return s.Name })
}

// Matrix returns a matrix by name; "" means the default or the only one.
func (p *Project) Matrix(name string) (combo.Matrix, error) {
	return pick("matrix", name, p.Default.Matrix, p.Matrices, func(m combo.Matrix) string { return m.Name })
}

// Environment returns an environment by name; "" means the default or the only
// one, and an empty environment when the project has none.
func (p *Project) Environment(name string) (Environment, error) {
	if name == "" && len(p.Environments) == 0 {
		return Environment{Vars: maps.Clone(p.Vars)}, nil
	}
	return pick("environment", name, p.Default.Environment, p.Environments, func(e Environment) string { return e.Name })
}
