package door

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"parallelpane/internal/core/traffic"
)

// Rules say where a door leads.
type Rules struct {
	// Closed says that an address belongs to the lab itself. It may be nil.
	Closed func(netip.AddrPort) bool
	// Only are the places that may be reached, if there are any: see ParsePlace.
	Only []Place
	// Through gives the proxy that leads to an address; nil for none. It may be nil.
	Through Through
	// Shape is what all connections together are held to.
	Shape traffic.Shape
}

// Through gives the proxy that leads to an address (http, https or socks5); nil
// for none.
type Through func(*url.URL) (*url.URL, error)

// Refused means that a door does not lead to where it was asked for.
type Refused struct{ Host, Why string }

func (r *Refused) Error() string { return fmt.Sprintf("%s is not to be reached: %s", r.Host, r.Why) }

// metadata are the addresses at which machines in a cloud are told who they are,
// with keys, besides those that are link-local (RFC 3927, RFC 4291).
var metadata = []netip.Addr{netip.MustParseAddr("fd00:ec2::254"),
	netip.MustParseAddr("100.100.100.200"), netip.MustParseAddr("192.0.0.192")}

// reach says whether an address, which a name led to or not, may be connected to.
func (r Rules) reach(to netip.AddrPort) error {
	ip := to.Addr().Unmap().WithZone("")
	switch {
	case ip.IsLinkLocalUnicast(), slices.Contains(metadata, ip):
		return &Refused{to.String(), "it is where machines are told their keys"}
	case ip.IsMulticast(), ip == netip.MustParseAddr("255.255.255.255"):
		return &Refused{to.String(), "it is many machines"}
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
		if p.holds(host, port) {
			return nil
		}
	}
	return &Refused{net.JoinHostPort(host, port), "this agent leads to listed places only"}
}

// Place is a host, or all below a domain, or a network; at one port or at any.
type Place struct {
	host string       // lower case; of a domain with the dot before it
	net  netip.Prefix // instead of a host
	port string       // "" for any
}

// ParsePlace reads "host", "*.domain", "address" or "network/bits", and ":port"
// behind it, an IPv6 address then in brackets.
func ParsePlace(text string) (Place, error) {
	var p Place
	host := text
	if h, port, err := net.SplitHostPort(text); err == nil {
		if n, err := net.LookupPort("tcp", port); err != nil || n == 0 || strings.Trim(port, "0123456789") != "" {
			return p, fmt.Errorf("%q: expected a port number after the colon", text)
		}
		host, p.port = h, port
	}
	host = strings.Trim(strings.ToLower(host), "[]")
	if prefix, err := netip.ParsePrefix(host); err == nil {
		p.net = prefix.Masked()
		return p, nil
	}
	if ip, err := netip.ParseAddr(host); err == nil {
		p.net = netip.PrefixFrom(ip.Unmap(), ip.Unmap().BitLen())
		return p, nil
	}
	if domain, ok := strings.CutPrefix(host, "*."); ok {
		host = "." + domain
	}
	if strings.Trim(host, ".") == "" || strings.ContainsAny(host, "*/: \t@") {
		return p, fmt.Errorf("%q: expected a host, *.domain, an address or a network such as 10.1.0.0/16, and :port behind it if need be", text)
	}
	p.host = host
	return p, nil
}

func (p Place) holds(host, port string) bool {
	if p.port != "" && p.port != port {
		return false
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if p.net.IsValid() {
		ip, err := netip.ParseAddr(host)
		return err == nil && p.net.Contains(ip.Unmap().WithZone(""))
	}
	if strings.HasPrefix(p.host, ".") {
		return strings.HasSuffix(host, p.host)
	}
	return host == p.host
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
	var except []Place
	list, _ := proxy["noProxy"].([]any)
	for _, x := range list {
		text, _ := x.(string)
		p, err := ParsePlace(strings.Replace(text, "*.", ".", 1))
		if strings.HasPrefix(text, ".") {
			p, err = ParsePlace("*" + text)
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
			if p.holds(u.Hostname(), portOf(u)) {
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

// portOf is the port of an address, its scheme's when it names none.
func portOf(u *url.URL) string {
	switch port := u.Port(); {
	case port != "":
		return port
	case u.Scheme == "https":
		return "443"
	}
	return "80"
}
