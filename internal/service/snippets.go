package service

import (
	"net/url"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/snippet"
)

// Snippets writes examples, and says how many agents could serve them.
func (s *Service) Snippets(r api.SnippetRequest) (api.Snippets, error) {
	caps := map[string]any{}
	put := func(into map[string]any, name, v string) {
		if v != "" {
			into[name] = v
		}
	}
	put(caps, "browserName", r.Browser)
	put(caps, "browserVersion", r.Version)
	put(caps, "platformName", r.OS)
	if r.BiDi == "yes" {
		caps["webSocketUrl"] = true
	}
	options := map[string]any{}
	for name, v := range map[string]string{"test": r.Test, "run": r.Run, "project": r.Project, "device": r.Device, "mode": r.Mode} {
		put(options, name, v)
	}
	words := func(name, text string) error {
		pairs := map[string]any{}
		for _, w := range strings.Fields(text) {
			key, v, ok := strings.Cut(w, "=")
			if !ok {
				return api.Errorf(api.Invalid, "%s: expected NAME=VALUE, found %q", name, w)
			}
			pairs[key] = v
		}
		if len(pairs) > 0 {
			options[name] = pairs
		}
		return nil
	}
	if err := words("labels", r.Labels); err != nil {
		return api.Snippets{}, err
	}
	if err := words("record", r.Record); err != nil {
		return api.Snippets{}, err
	}
	if tags := strings.Fields(r.Tags); len(tags) > 0 {
		list := make([]any, len(tags))
		for i, t := range tags {
			list[i] = t
		}
		options["tags"] = list
	}
	if len(options) > 0 {
		caps[remote.OptionsKey] = options
	}
	out := api.Snippets{Endpoint: strings.TrimRight(r.Service, "/") + "/webdriver", Capabilities: caps, Languages: snippet.Languages, Code: map[string]string{}}
	var err error
	if out.Agents, out.Why, err = s.couldServe(caps); err != nil {
		return out, err
	}
	if u, err := url.Parse(r.Service); err != nil || u.Host == "" {
		return out, api.Errorf(api.Invalid, "service: expected an address such as http://lab.example:7420, found %q", r.Service)
	}
	for _, l := range snippet.Languages {
		if out.Code[l.Name], err = snippet.Write(l.Name, snippet.Request{Service: strings.TrimRight(r.Service, "/"), Caps: caps, Address: r.Address}); err != nil {
			return out, api.Errorf(api.Invalid, "%v", err)
		}
	}
	return out, nil
}

// couldServe says who could serve some capabilities.
func (s *Service) couldServe(caps map[string]any) (fleet.Answer, string, error) {
	want, err := remote.NewWant(caps, s.hasBrowser)
	if err != nil {
		return fleet.Answer{}, "", api.Errorf(api.Invalid, "%v", err)
	}
	if want.Options.Device != "" {
		if _, err := device.Find(want.Options.Device); err != nil {
			return fleet.Answer{}, "", api.Errorf(api.Invalid, "device: %v", err)
		}
	}
	lab := s.lab(want.Options.Project)
	if want.Browser != "" {
		why := ""
		if settled, err := want.On(want.Browser, lab.Versions(want.Browser, "")); err != nil {
			why = err.Error()
		} else {
			want = settled
		}
		if lacks := s.lacks(want.Browser, caps); lacks != "" {
			why = lacks
		}
		if why != "" {
			return fleet.Ask(fleet.Needs{"browser": {"(none)"}}, lab.Members), why, nil
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
	a := fleet.Ask(needs, lab.Members)
	return a, a.Explain(needs), nil
}
