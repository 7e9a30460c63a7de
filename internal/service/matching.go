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
		var why []string
		var waits *remote.Want
		for _, b := range browsers {
			var settled remote.Want
			if settled, err = want.On(b, lab.Versions(b, "")); err != nil {
				why = append(why, err.Error())
				continue
			}
			if lacks := s.lacks(b, caps); lacks != "" {
				why = append(why, lacks)
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
func (s *Service) lacks(browser string, caps webdriver.Capabilities) string {
	engine := s.engineOf(browser)
	if engine == "" {
		return "" // nobody has it: matching says so better
	}
	others := webdriver.OtherPrefixes(engine)
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
