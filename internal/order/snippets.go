package order

import (
	"net/url"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/snippet"
)

// Snippets writes examples, and says how many agents could serve them.
func (desk *Desk) Snippets(who api.Who, r api.SnippetRequest) (api.Snippets, error) {
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
	for name, v := range map[string]string{"test": r.Test, "run": r.Run, "project": r.Project, "device": r.Device, "mode": r.Mode,
		"traffic": r.Traffic, "relay": r.Relay} {
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
	out := api.Snippets{Endpoint: strings.TrimRight(r.Service, "/") + "/webdriver", Capabilities: caps,
		Languages: snippet.Languages, Code: map[string]string{}}
	var err error
	if out.Agents, out.Why, err = desk.lab.CouldServe(who, caps); err != nil {
		return out, err
	}
	if u, err := url.Parse(r.Service); err != nil || u.Host == "" {
		return out, api.Errorf(api.Invalid, "service: expected an address such as http://lab.example:7420, found %q", r.Service)
	}
	for _, l := range snippet.Languages {
		if out.Code[l.Name], err = snippet.Write(l.Name, snippet.Request{Service: strings.TrimRight(r.Service, "/"), Caps: caps,
			Address: r.Address}); err != nil {
			return out, api.Errorf(api.Invalid, "%v", err)
		}
	}
	return out, nil
}
