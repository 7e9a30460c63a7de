// Package place is for hosts and ports that something may lead to: how they are
// written down, and what they hold.
package place

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
)

// Place is a host, or all below a domain, or a network; at one port or at any.
type Place struct {
	host string       // lower case; of a domain with the dot before it
	net  netip.Prefix // instead of a host
	port string       // "" for any
}

// Parse reads "host", "*.domain", "address" or "network/bits", and ":port"
// behind it, an IPv6 address then in brackets.
func Parse(text string) (Place, error) {
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

// Holds reports whether a host and port, as they are asked for, belong to the place.
func (p Place) Holds(host, port string) bool {
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

// String is the place as Parse reads it.
func (p Place) String() string {
	host := p.host
	switch {
	case p.net.IsValid() && p.net.IsSingleIP():
		host = p.net.Addr().String()
	case p.net.IsValid():
		host = p.net.String()
	case strings.HasPrefix(host, "."):
		host = "*" + host
	}
	if p.port == "" {
		return host
	}
	return net.JoinHostPort(host, p.port)
}

// Holds reports whether one of places holds what an address, host:port, asks for.
func Holds(places []Place, address string) bool {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	for _, p := range places {
		if p.Holds(host, port) {
			return true
		}
	}
	return false
}

// All reads several places. The error names the one that is wrong.
func All(texts []string) ([]Place, error) {
	out := make([]Place, len(texts))
	for i, text := range texts {
		var err error
		if out[i], err = Parse(text); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Of is the host and port that an http or https address leads to.
func Of(address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return "", fmt.Errorf("%q: expected an http or https address", address)
	}
	return net.JoinHostPort(u.Hostname(), Port(u)), nil
}

// Port is the port of an address, its scheme's when it names none.
func Port(u *url.URL) string {
	switch port := u.Port(); {
	case port != "":
		return port
	case u.Scheme == "https":
		return "443"
	}
	return "80"
}

// Near reports whether an address, host:port, leads to the machine that asks (local),
// or to a network that is not everybody's (RFC 1918, RFC 4193, RFC 3927).
func Near(address string) (local, private bool) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		host = address
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if host == "localhost" || strings.HasSuffix(host, ".localhost") { // RFC 6761
		return true, false
	}
	ip, err := netip.ParseAddr(strings.Trim(host, "[]"))
	if err != nil {
		return false, false
	}
	ip = ip.Unmap().WithZone("")
	return ip.IsLoopback() || ip.IsUnspecified(), ip.IsPrivate() || ip.IsLinkLocalUnicast()
}

// inward are networks that are not everybody's beyond those that Near and Never tell
// (IANA's special-purpose address registries): shared, of protocols, for measuring, reserved,
// and those that lead back to IPv4.
var inward = []netip.Prefix{netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"),
	netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("fec0::/10")}

// Inward reports whether an address leads to this machine or to its own surroundings, and
// not to what everybody reaches.
func Inward(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	local, private := Near(ip.String())
	return local || private || Never(ip) != "" || slices.ContainsFunc(inward, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// metadata are the addresses at which machines in a cloud are told who they are,
// with keys, besides those that are link-local (RFC 3927, RFC 4291).
var metadata = []netip.Addr{netip.MustParseAddr("fd00:ec2::254"),
	netip.MustParseAddr("100.100.100.200"), netip.MustParseAddr("192.0.0.192")}

// Never says why nothing leads to an address, whatever is listed; "" where something may.
func Never(ip netip.Addr) (why string) {
	ip = ip.Unmap().WithZone("")
	switch {
	case ip.IsLinkLocalUnicast(), slices.Contains(metadata, ip):
		return "it is where machines are told their keys"
	case ip.IsMulticast(), ip == netip.MustParseAddr("255.255.255.255"):
		return "it is many machines"
	}
	return ""
}
