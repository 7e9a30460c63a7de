package agent

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"time"
)

// Isolation says whether sessions have a sandbox each.
type Isolation string

// The agent's choices.
const (
	Auto     Isolation = "auto"    // where there can be; "" means this
	Enclosed Isolation = "sandbox" // or the agent does not start
	Exposed  Isolation = "none"
)

// ParseIsolation reads a choice by its name.
func ParseIsolation(text string) (Isolation, error) {
	if i := Isolation(text); slices.Contains([]Isolation{Auto, Enclosed, Exposed}, i) {
		return i, nil
	}
	return "", fmt.Errorf("expected auto, sandbox or none, found %q", text)
}

// labs says which addresses are the lab's own: the service's, under every address
// of this machine when it runs here. Names are looked up once.
func labs(ctx context.Context, service string) func(netip.AddrPort) bool {
	u, err := url.Parse(service)
	if err != nil {
		return nil
	}
	port := u.Port()
	if port == "" {
		port = u.Scheme
	}
	n, err := net.LookupPort("tcp", port)
	if err != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	at, _ := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
	for i := range at {
		at[i] = at[i].Unmap()
	}
	here := own()
	if slices.ContainsFunc(at, func(a netip.Addr) bool { return a.IsLoopback() || slices.Contains(here, a) }) {
		at = append(at, here...)
	}
	return func(to netip.AddrPort) bool {
		a := to.Addr().Unmap()
		loops := a.IsLoopback() && slices.ContainsFunc(at, netip.Addr.IsLoopback)
		return int(to.Port()) == n && (loops || slices.Contains(at, a))
	}
}

// own are the addresses of this machine, loopback among them.
func own() (all []netip.Addr) {
	nets, _ := net.InterfaceAddrs()
	for _, x := range nets {
		if p, err := netip.ParsePrefix(x.String()); err == nil {
			all = append(all, p.Addr().Unmap())
		}
	}
	return all
}
