package door

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"

	"parallelpane/internal/core/traffic"
	"parallelpane/internal/place"
)

// Rules say where a door leads.
type Rules struct {
	// Closed says that an address belongs to the lab itself. It may be nil.
	Closed func(netip.AddrPort) bool
	// Only are the places that may be reached, if there are any: see place.Parse.
	Only []place.Place
	// Through gives the proxy that leads to an address; nil for none. It may be nil.
	Through Through
	// Relay leads to places that somebody's own machine reaches. It may be nil.
	Relay *Relay
	// Shape is what all connections together are held to.
	Shape traffic.Shape
}

// Relay is the way to places that this machine need not reach by itself. What Only and
// Through say does not hold for them: they are not connected to from here.
type Relay struct {
	Places []place.Place
	Dial   func(ctx context.Context, address string) (net.Conn, error)
}

func (r *Relay) leads(address string) bool { return r != nil && place.Holds(r.Places, address) }

// Through gives the proxy that leads to an address (http, https or socks5); nil
// for none.
type Through func(*url.URL) (*url.URL, error)

// Refused means that a door does not lead to where it was asked for.
type Refused struct{ Host, Why string }

func (r *Refused) Error() string { return fmt.Sprintf("%s is not to be reached: %s", r.Host, r.Why) }

// reach says whether an address, which a name led to or not, may be connected to.
func (r Rules) reach(to netip.AddrPort) error {
	ip := to.Addr().Unmap().WithZone("")
	if why := place.Never(ip); why != "" {
		return &Refused{to.String(), why}
	}
	if ip.IsUnspecified() { // which connects to the machine itself
		ip = netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	if r.Closed != nil && r.Closed(netip.AddrPortFrom(ip, to.Port())) {
		return &Refused{to.String(), "it is the lab's own"}
	}
	return nil
}

// name says whether a host and port may be asked for by that name.
func (r Rules) name(host, port string) error {
	if len(r.Only) == 0 {
		return nil
	}
	for _, p := range r.Only {
		if p.Holds(host, port) {
			return nil
		}
	}
	return &Refused{net.JoinHostPort(host, port), "this agent leads to listed places only"}
}

// Asked reads the proxy that a session asks for (W3C WebDriver, section Proxy), of
// a shape that has been checked. Otherwise is what leads where it asks for none of
// its own.
func Asked(proxy map[string]any, otherwise Through) (Through, error) {
	switch kind, _ := proxy["proxyType"].(string); kind {
	case "", "system", "autodetect":
		return otherwise, nil
	case "direct":
		return nil, nil
	case "pac":
		return nil, &Refused{"proxyType pac", "this agent runs no script to find a proxy; name it with proxyType manual"}
	}
	var except []place.Place
	list, _ := proxy["noProxy"].([]any)
	for _, x := range list {
		text, _ := x.(string)
		p, err := place.Parse(strings.Replace(text, "*.", ".", 1))
		if strings.HasPrefix(text, ".") {
			p, err = place.Parse("*" + text)
		}
		if err == nil {
			except = append(except, p)
		}
	}
	of := func(name, scheme string) (*url.URL, error) {
		host, _ := proxy[name].(string)
		if host == "" {
			return nil, nil
		}
		return url.Parse(scheme + "://" + host)
	}
	plain, err := of("httpProxy", "http")
	if err != nil {
		return nil, err
	}
	secure, err := of("sslProxy", "http")
	if err != nil {
		return nil, err
	}
	socks, err := of("socksProxy", "socks5")
	if err != nil {
		return nil, err
	}
	return func(u *url.URL) (*url.URL, error) {
		for _, p := range except {
			if p.Holds(u.Hostname(), place.Port(u)) {
				return nil, nil
			}
		}
		switch {
		case u.Scheme == "http" && plain != nil:
			return plain, nil
		case u.Scheme == "https" && secure != nil:
			return secure, nil
		}
		return socks, nil
	}, nil
}
