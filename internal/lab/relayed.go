package lab

import (
	"parallelpane/internal/api"
	"parallelpane/internal/place"
)

// leads are the places of a relay that work asks for; nil where it asks for none. Of one
// whose owner is not back yet it is known that it led to the base address.
func (lab *Lab) leads(project, relay, base string) []string {
	if relay == "" {
		return nil
	}
	places, err := lab.relays.Places(project, relay)
	if err == nil {
		return places
	}
	if at, err := place.Of(base); err == nil {
		return []string{at}
	}
	return nil
}

// RelayOf is the relay that the work under an agent's lease may use. Ask again with goes
// whether the lease still stands.
func (lab *Lab) RelayOf(agent string, fence int64) (project, name string, goes func() bool, err error) {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	l, ok := lab.leases[fence]
	if !ok || l.Agent != agent {
		return "", "", nil, api.Errorf(api.Conflict, "lease %d has ended", fence)
	}
	if r := lab.live[l.Run]; r != nil {
		project, name = r.view.Project, r.view.Request.Relay
	} else if x := lab.remotes[l.Run]; x != nil {
		project, name = x.order.Project, x.relay
	}
	if name == "" {
		return "", "", nil, api.Errorf(api.Forbidden, "the work under lease %d asks for no relay", fence)
	}
	return project, name, func() bool {
		lab.mu.Lock()
		defer lab.mu.Unlock()
		return lab.leases[fence].Fence == fence
	}, nil
}
