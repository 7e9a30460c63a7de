package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/webdriver"
)

// choose matches the alternatives, in order, against the fleet (section 7.2.3
// "Match capabilities"): the first that some agent could serve is taken.
func (s *Service) choose(alternatives []webdriver.Capabilities) (remote.Want, webdriver.Capabilities, error) {
	var reasons []string
	for _, caps := range alternatives {
		want, err := remote.NewWant(caps, s.hasBrowser)
		if err != nil {
			return want, nil, webdriver.Errorf(webdriver.InvalidArgument, "%v", err)
		}
		lab := s.lab(want.Options.Project)
		browsers := []string{want.Browser}
		if want.Browser == "" {
			browsers = s.allBrowsers()
		}
		why := "no agent has a browser: start one with pane agent"
		var waits *remote.Want
		for _, b := range browsers {
			var settled remote.Want
			if settled, err = want.On(b, lab.Versions(b, "")); err != nil {
				why = err.Error()
				continue
			}
			if lacks := s.lacks(b, caps); lacks != "" {
				why = lacks
				continue
			}
			needs := settled.Needs()
			answer := fleet.Ask(needs, lab.Members)
			switch {
			case len(answer.Idle) > 0:
				return settled, caps, nil
			case answer.Possible() && waits == nil:
				waits = &settled
			case !answer.Possible():
				why = answer.Explain(needs)
			}
		}
		if waits != nil {
			return *waits, caps, nil
		}
		reasons = append(reasons, why)
	}
	return remote.Want{}, nil, webdriver.Errorf(webdriver.SessionNotCreated, "%s", strings.Join(reasons, "; or: "))
}

// engineCaps are the extension capabilities that each engine's driver knows, and
// whether it has BiDi.
var engineCaps = map[string]struct {
	prefixes []string
	bidi     bool
}{
	"chromium": {[]string{"goog:", "webauthn:", "fedcm:"}, true},
	"gecko":    {[]string{"moz:"}, true},
	"webkit":   {[]string{"webkitgtk:", "webauthn:"}, false},
	"standin":  {nil, false},
}

// lacks says what of some capabilities no driver of a browser serves.
func (s *Service) lacks(browser string, caps webdriver.Capabilities) string {
	engine := s.engineOf(browser)
	knows, ok := engineCaps[engine]
	if !ok {
		return "" // nobody has it: matching says so better
	}
	for _, name := range slices.Sorted(maps.Keys(caps)) {
		if name == "webSocketUrl" && caps[name] == true && !knows.bidi {
			return browser + " has no webSocketUrl"
		}
		if prefix, _, extension := strings.Cut(name, ":"); extension && name != remote.OptionsKey && !slices.Contains(knows.prefixes, prefix+":") {
			return fmt.Sprintf("%s does not know %s", browser, name)
		}
	}
	return ""
}

func (s *Service) engineOf(browser string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.agents {
		for _, b := range a.machine.Browsers {
			if b.Name == browser && b.Fits {
				return b.Engine
			}
		}
	}
	return ""
}

func (s *Service) hasBrowser(name string) bool { return s.engineOf(name) != "" }

// allBrowsers lists the browsers to try for capabilities that name none: those
// of real engines first.
func (s *Service) allBrowsers() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	rank := map[string]int{}
	for _, a := range s.agents {
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
