package lab

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/webdriver"
)

// choose matches the alternatives, in order, against the fleet (section 7.2.3
// "Match capabilities"): the first that some agent could serve is taken.
func (lab *Lab) choose(who api.Who, alternatives []webdriver.Capabilities) (remote.Want, webdriver.Capabilities, error) {
	var reasons []string
	for _, caps := range alternatives {
		want, err := remote.NewWant(caps, lab.hasBrowser)
		if err != nil {
			return want, nil, webdriver.Errorf(webdriver.InvalidArgument, "%v", err)
		}
		if mine := who.Where(api.Runner); len(mine) == 1 && want.Options.Project == remote.NoProject {
			want.Options.Project = mine[0] // whoever has but one project need not name it
		}
		known := lab.Fleet(who, want.Options.Project)
		browsers := []string{want.Browser}
		if want.Browser == "" {
			browsers = lab.allBrowsers()
		}
		var why []string
		var waits *remote.Want
		for _, b := range browsers {
			var settled remote.Want
			if settled, err = want.On(b, known.Versions(map[string]string{"browser": b, "os": want.OS})); err != nil {
				why = append(why, err.Error())
				continue
			}
			if lacks := lab.lacks(b, caps); lacks != "" {
				why = append(why, lacks)
				continue
			}
			needs := settled.Needs()
			answer := fleet.Ask(needs, known.Members)
			switch {
			case len(answer.Idle) > 0:
				return settled, caps, nil
			case answer.Possible() && waits == nil:
				waits = &settled
			case !answer.Possible():
				why = append(why, answer.Explain(needs))
			}
		}
		if waits != nil {
			return *waits, caps, nil
		}
		if len(why) == 0 {
			why = []string{"no agent has a browser: start one with pane agent"}
		}
		reasons = append(reasons, strings.Join(why, "; "))
	}
	return remote.Want{}, nil, webdriver.Errorf(webdriver.SessionNotCreated, "%s", strings.Join(reasons, "; or: "))
}

// hasBiDi lists the engines whose drivers have a webSocketUrl.
var hasBiDi = []string{"chromium", "gecko"}

// lacks says what of some capabilities no driver of a browser serves.
func (lab *Lab) lacks(browser string, caps webdriver.Capabilities) string {
	engine := lab.engineOf(browser)
	if engine == "" {
		return "" // nobody has it: matching says so better
	}
	others := webdriver.OtherPrefixes(browser, engine)
	for _, name := range slices.Sorted(maps.Keys(caps)) {
		if name == "webSocketUrl" && caps[name] == true && !slices.Contains(hasBiDi, engine) {
			return browser + " has no webSocketUrl"
		}
		if prefix, _, extension := strings.Cut(name, ":"); extension && slices.Contains(others, prefix+":") {
			return fmt.Sprintf("%s does not know %s, which is another engine's", browser, name)
		}
	}
	return ""
}

func (lab *Lab) engineOf(browser string) string {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	for _, a := range lab.agents {
		for _, b := range a.machine.Browsers {
			if b.Name == browser && b.Fits {
				return b.Engine
			}
		}
	}
	return ""
}

func (lab *Lab) hasBrowser(name string) bool { return lab.engineOf(name) != "" }

// allBrowsers lists the browsers to try for capabilities that name none: those
// of real engines first.
func (lab *Lab) allBrowsers() []string {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	rank := map[string]int{}
	for _, a := range lab.agents {
		for _, b := range a.machine.Browsers {
			if b.Fits {
				rank[b.Name] = slices.Index([]string{"chromium", "gecko", "webkit", "standin"}, b.Engine)
			}
		}
	}
	out := slices.Collect(maps.Keys(rank))
	slices.SortFunc(out, func(a, b string) int {
		if rank[a] != rank[b] {
			return rank[a] - rank[b]
		}
		return strings.Compare(a, b)
	})
	return out
}

// CouldServe says who could serve some capabilities.
func (lab *Lab) CouldServe(who api.Who, caps map[string]any) (fleet.Answer, string, error) {
	want, err := remote.NewWant(caps, lab.hasBrowser)
	if err != nil {
		return fleet.Answer{}, "", api.Errorf(api.Invalid, "%v", err)
	}
	if want.Options.Device != "" {
		if _, err := device.Find(want.Options.Device); err != nil {
			return fleet.Answer{}, "", api.Errorf(api.Invalid, "device: %v", err)
		}
	}
	known := lab.Fleet(who, want.Options.Project)
	if want.Browser != "" {
		why := ""
		if settled, err := want.On(want.Browser, known.Versions(map[string]string{"browser": want.Browser, "os": want.OS})); err != nil {
			why = err.Error()
		} else {
			want = settled
		}
		if lacks := lab.lacks(want.Browser, caps); lacks != "" {
			why = lacks
		}
		if why != "" {
			return fleet.Ask(fleet.Needs{"browser": {"(none)"}}, known.Members), why, nil
		}
	} else {
		want.Values = map[string]string{}
		for axis, v := range map[string]string{"version": want.Version, "os": want.OS, "mode": want.Options.Mode} {
			if v != "" && v != "latest" {
				want.Values[axis] = v
			}
		}
	}
	needs := want.Needs()
	a := fleet.Ask(needs, known.Members)
	return a, a.Explain(needs), nil
}

// Ask says which agents can do work with these needs.
func (lab *Lab) Ask(who api.Who, words []string, projectName string) (api.Why, error) {
	needs, err := fleet.ParseNeeds(words)
	if err != nil {
		return api.Why{}, api.Errorf(api.Invalid, "%v", err)
	}
	known := lab.Fleet(who, projectName)
	if _, asked := needs["pool"]; !asked && projectName != "" {
		needs = needs.With(fleet.NeedsOf(projectName, nil))
	}
	w := api.Why{Needs: needs, Answer: fleet.Ask(needs, known.Members), Facts: map[string][]string{}}
	w.Nearest, w.Why = w.Answer.Nearest(), w.Answer.Explain(needs)
	for _, m := range known.Members {
		for fact, values := range m.Facts {
			for _, v := range values {
				if !slices.Contains(w.Facts[fact], v) {
					w.Facts[fact] = append(w.Facts[fact], v)
				}
			}
		}
	}
	for _, values := range w.Facts {
		slices.SortFunc(values, combo.CompareVersions)
	}
	for fact := range needs {
		if _, known := w.Facts[fact]; !known && w.Why != "" {
			w.Why += fmt.Sprintf("; no agent has a fact called %s, there are %s", fact, strings.Join(slices.Sorted(maps.Keys(w.Facts)), ", "))
		}
	}
	return w, nil
}
