package lab

import (
	"context"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/store"
)

// changesKept is for how long it is known which versions came and went.
const changesKept = 90 * 24 * time.Hour

// version is a browser in a version, wherever it is.
type version struct{ browser, number, channel string }

// offered are the versions that a machine offers; a stand-in's are not the lab's.
func offered(m fleet.Machine) map[version]bool {
	out := map[version]bool{}
	for _, b := range m.Browsers {
		if b.Fits && !m.StandIn {
			out[version{b.Name, b.Version, b.Channel}] = true
		}
	}
	return out
}

// changedLocked says which versions come into the lab, and which leave it, when an agent
// has other browsers than it had: those that no other agent has.
func (lab *Lab) changedLocked(agent string, was, is fleet.Machine) (batch []store.Stmt) {
	elsewhere := map[version]bool{}
	for name, a := range lab.agents {
		if name != agent {
			for v := range offered(a.machine) {
				elsewhere[v] = true
			}
		}
	}
	before, after := offered(was), offered(is)
	note := func(all, other map[version]bool, came bool) {
		for v := range all {
			if !other[v] && !elsewhere[v] {
				now := lab.now()
				batch = append(batch, store.AddBrowserChange(store.BrowserChange{At: store.Millis(now), Agent: agent, Browser: v.browser,
					Version: v.number, Channel: v.channel, Came: came}, store.Millis(now.Add(-changesKept)))...)
			}
		}
	}
	note(before, after, false)
	note(after, before, true)
	return batch
}

// maxChanges bounds a list of changes.
const maxChanges = 200

// BrowserChanges lists what came into the lab and left it with some agents, newest first.
func (lab *Lab) BrowserChanges(ctx context.Context, of func(agent string) bool) ([]api.BrowserChange, error) {
	rows, err := lab.store.BrowserChanges(ctx, maxChanges)
	if err != nil {
		return nil, err
	}
	out := []api.BrowserChange{}
	for _, r := range rows {
		if of(r.Agent) {
			out = append(out, api.BrowserChange{At: api.At(r.At), Agent: r.Agent, Browser: r.Browser, Version: r.Version, Channel: r.Channel,
				Came: r.Came})
		}
	}
	return out, nil
}
