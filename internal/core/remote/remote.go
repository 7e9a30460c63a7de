// Package remote reads what a session that somebody else's runner opens asks
// for: W3C capabilities, with the lab's own in the extension capability
// pane:options, become values of a combination and needs of an agent.
package remote

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/traffic"
)

// OptionsKey is the name of the lab's extension capability.
const OptionsKey = "pane:options"

// Limits of a session. Times are seconds in capabilities.
const (
	DefaultIdle  = 2 * time.Minute
	MaxIdle      = time.Hour
	DefaultQueue = 5 * time.Minute
	MaxQueue     = 4 * time.Hour
	maxText      = 200
	maxTags      = 50
)

// NoProject is the project of sessions that name none.
const NoProject = "unnamed"

// Options is the value of pane:options.
type Options struct {
	Name       string            `json:"name,omitempty"` // of the session, for people; the test's if not given
	Test       string            `json:"test,omitempty"` // which test it is; sessions of one test share a line of the wall
	Run        string            `json:"run,omitempty"`  // sessions that name the same run stand in one wall
	Project    string            `json:"project,omitempty"`
	Tags       []string          `json:"tags,omitempty"`
	Device     string            `json:"device,omitempty"` // of the catalogue; none leaves the browser as it opens
	Mode       string            `json:"mode,omitempty"`   // headless or headed; headless if not given
	Labels     map[string]string `json:"labels,omitempty"` // that the agent must have
	Record     record.Policy     `json:"record,omitempty"`
	Traffic    string            `json:"traffic,omitempty"`    // what the way to the site is held to: down=1500 up=750 delay=120
	Relay      string            `json:"relay,omitempty"`      // the way in to an application that only its machine reaches
	IdleLimit  float64           `json:"idleLimit,omitempty"`  // seconds without a command after which the session ends
	QueueLimit float64           `json:"queueLimit,omitempty"` // seconds to wait for a slot
	Secrets    map[string]string `json:"secrets,omitempty"`    // values that no recording may show
}

// Keys lists the names that pane:options takes.
func Keys() []string {
	t := reflect.TypeFor[Options]()
	out := make([]string, t.NumField())
	for i := range out {
		out[i], _, _ = strings.Cut(t.Field(i).Tag.Get("json"), ",")
	}
	return out
}

// ParseOptions reads the value of pane:options. Unknown names are errors that
// list the known ones.
func ParseOptions(v any) (Options, error) {
	var o Options
	if v == nil {
		return o, nil
	}
	fields, ok := v.(map[string]any)
	if !ok {
		return o, errors.New(OptionsKey + ": expected an object")
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		if !slices.Contains(Keys(), name) {
			return o, fmt.Errorf("%s: there is no %q; there are %s", OptionsKey, name, strings.Join(Keys(), ", "))
		}
	}
	if word, ok := fields["record"].(string); ok {
		p, err := record.Parse([]string{word})
		if err != nil {
			return o, fmt.Errorf("%s.record: %w", OptionsKey, err)
		}
		fields = maps.Clone(fields)
		fields["record"] = p
	}
	raw, err := json.Marshal(fields)
	if err == nil {
		err = json.NewDecoder(bytes.NewReader(raw)).Decode(&o)
	}
	if wrong, ok := errors.AsType[*json.UnmarshalTypeError](err); ok {
		return o, fmt.Errorf("%s.%s: expected %s, found %s", OptionsKey, wrong.Field, kindName(wrong.Type), wrong.Value)
	}
	if err != nil {
		return o, fmt.Errorf("%s: %w", OptionsKey, err)
	}
	if err := o.check(); err != nil {
		return o, fmt.Errorf("%s.%w", OptionsKey, err)
	}
	return o, nil
}

func kindName(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Slice:
		return "a list of strings"
	case reflect.Map:
		return "an object of strings"
	case reflect.Float64:
		return "a number"
	}
	return "a string"
}

func (o Options) check() error {
	texts := map[string]string{"name": o.Name, "test": o.Test, "run": o.Run, "project": o.Project, "device": o.Device}
	for i, t := range o.Tags {
		texts[fmt.Sprintf("tags[%d]", i)] = t
	}
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		if len(texts[name]) > maxText || strings.ContainsFunc(texts[name], func(r rune) bool { return r < ' ' }) {
			return fmt.Errorf("%s: expected at most %d bytes in one line", name, maxText)
		}
	}
	if len(o.Tags) > maxTags {
		return fmt.Errorf("tags: expected at most %d", maxTags)
	}
	if o.Mode != "" && o.Mode != "headless" && o.Mode != "headed" {
		return fmt.Errorf("mode: expected headless or headed, found %q", o.Mode)
	}
	for _, limit := range []struct {
		name    string
		seconds float64
		most    time.Duration
	}{{"idleLimit", o.IdleLimit, MaxIdle}, {"queueLimit", o.QueueLimit, MaxQueue}} {
		if limit.seconds < 0 || limit.seconds > limit.most.Seconds() {
			return fmt.Errorf("%s: expected seconds up to %g, found %g", limit.name, limit.most.Seconds(), limit.seconds)
		}
	}
	for _, label := range slices.Sorted(maps.Keys(o.Labels)) {
		if label == "pool" {
			return errors.New("labels: a project's pools follow from the project: leave pool out")
		}
		if _, err := fleet.ParseNeeds([]string{label + "=" + o.Labels[label]}); err != nil {
			return fmt.Errorf("labels: %w", err)
		}
	}
	if err := o.Record.Check(); err != nil {
		return fmt.Errorf("record: %w", err)
	}
	if o.Relay != "" && !fleet.IsName(o.Relay) {
		return fmt.Errorf("relay: expected the name of an open relay, found %.80q", o.Relay)
	}
	if _, err := traffic.Parse(o.Traffic); err != nil {
		return fmt.Errorf("traffic: %w", err)
	}
	return nil
}

// Idle is after how long without a command the session ends.
func (o Options) Idle() time.Duration { return seconds(o.IdleLimit, DefaultIdle) }

// Queue is how long the session may wait for a slot.
func (o Options) Queue() time.Duration { return seconds(o.QueueLimit, DefaultQueue) }

func seconds(s float64, otherwise time.Duration) time.Duration {
	if s == 0 {
		return otherwise
	}
	return time.Duration(s * float64(time.Second))
}

// Want is one alternative of what a session asks for.
type Want struct {
	Options Options
	Browser string            // "" leaves it open
	Version string            // a selector
	OS      string            // "" leaves it open
	Caps    map[string]any    // what is left for the driver
	Values  map[string]string // of the combination, once the browser is known
}

// own are the capabilities that the lab itself answers.
var own = []string{"browserName", "browserVersion", "platformName", OptionsKey}

// systems are W3C platform names whose systems agents call otherwise.
var systems = map[string]string{"mac": "macos", "darwin": "macos", "any": "", "ANY": ""}

// driversNames are what drivers call the browsers that the lab knows under
// another name.
var driversNames = map[string]string{"chrome": "chromium", "MiniBrowser": "webkitgtk", "MicrosoftEdge": "edge", "msedge": "edge",
	"Safari": "safari"}

// NewWant reads one alternative of validated, merged capabilities. known says
// whether some agent has a browser of a name.
func NewWant(caps map[string]any, known func(browser string) bool) (Want, error) {
	o, err := ParseOptions(caps[OptionsKey])
	if err != nil {
		return Want{}, err
	}
	if o.Project == "" {
		o.Project = NoProject
	}
	w := Want{Options: o, Caps: maps.Clone(caps)}
	for _, name := range own {
		delete(w.Caps, name)
	}
	w.Browser, _ = caps["browserName"].(string)
	if alias := driversNames[w.Browser]; alias != "" && !known(w.Browser) {
		w.Browser = alias
	}
	w.Version, _ = caps["browserVersion"].(string)
	if w.Version != "" {
		if _, err := combo.ParseSelector(w.Version); err != nil {
			return Want{}, fmt.Errorf("browserVersion: %w", err)
		}
	}
	w.OS, _ = caps["platformName"].(string) // as it is: section 7.2.3 compares it letter by letter
	if name, ok := systems[w.OS]; ok {
		w.OS = name
	}
	return w, nil
}

// On settles the browser and turns the want into the values of a combination,
// with the version frozen to what the selector means among those there are.
func (w Want) On(browser string, versions []string) (Want, error) {
	w.Browser = browser
	w.Values = map[string]string{"browser": browser}
	if w.Version != "" {
		sel, err := combo.ParseSelector(w.Version)
		if err != nil {
			return w, err
		}
		version, err := sel.Resolve(versions)
		if err != nil {
			return w, fmt.Errorf("%s %s: %w", browser, w.Version, err)
		}
		w.Values["version"] = version
	}
	for axis, v := range map[string]string{"os": w.OS, "device": w.Options.Device, "mode": w.Options.Mode} {
		if v != "" {
			w.Values[axis] = v
		}
	}
	return w, nil
}

// Needs are what an agent must have.
func (w Want) Needs() fleet.Needs {
	labels := fleet.Needs{}
	for name, v := range w.Options.Labels {
		labels[name] = []string{v}
	}
	return fleet.NeedsOf(w.Options.Project, w.Values).With(labels)
}

// Label names the combination.
func (w Want) Label() string {
	c := combo.Combination{Values: w.Values}
	var parts []string
	for _, axis := range c.Names() {
		parts = append(parts, w.Values[axis])
	}
	return strings.Join(parts, " · ")
}

// secretName is what names of credentials look like.
var secretName = regexp.MustCompile(`(?i)pass(word|wd|phrase)?$|secret|token|api[-_]?key|credential|auth(orization)?$`)

var userInfo = regexp.MustCompile(`//[^/@:\s]*:([^/@\s]+)@`)

// Secrets lists what of some capabilities nothing that is kept may show: the
// values of the options' secrets, those of names that look like a credential's, and
// passwords in addresses.
func Secrets(caps map[string]any) []string {
	var out []string
	var walk func(name string, v any)
	walk = func(name string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for k, x := range v {
				if name == OptionsKey && k == "secrets" {
					k = "secret"
				}
				if secretName.MatchString(name) {
					k = name
				}
				walk(k, x)
			}
		case []any:
			for _, x := range v {
				walk(name, x)
			}
		case string:
			if secretName.MatchString(name) {
				out = append(out, v)
			}
			if flag, value, ok := strings.Cut(v, "="); ok && secretName.MatchString(flag) {
				out = append(out, value)
			}
			for _, found := range userInfo.FindAllStringSubmatch(v, -1) {
				out = append(out, found[1])
			}
		}
	}
	walk("", caps)
	slices.Sort(out)
	return slices.Compact(out)
}
