package place

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlaces(t *testing.T) {
	for text, cases := range map[string]map[string]bool{
		"harbour.example": {"harbour.example:80": true, "HARBOUR.example.:443": true, "a.harbour.example:80": false},
		"*.harbour.example": {"a.harbour.example:80": true, "a.b.harbour.example:1": true, "harbour.example:80": false,
			"xharbour.example:80": false},
		"harbour.example:80": {"harbour.example:80": true, "harbour.example:81": false},
		"10.1.0.0/16":        {"10.1.2.3:80": true, "10.2.2.3:80": false, "harbour.example:80": false, "[::ffff:10.1.2.3]:80": true},
		"10.1.2.3:8080":      {"10.1.2.3:8080": true, "10.1.2.3:80": false},
		"[fd00::1]:80":       {"[fd00::1]:80": true, "[fd00::2]:80": false},
		"fd00::/8":           {"[fd12::2]:1": true},
	} {
		p, err := Parse(text)
		require.NoError(t, err, text)
		again, err := Parse(p.String())
		require.NoError(t, err, p)
		assert.Equal(t, p, again, text)
		for to, want := range cases {
			host, port, err := net.SplitHostPort(to)
			require.NoError(t, err)
			assert.Equal(t, want, p.Holds(host, port), "%s: %s", text, to)
		}
	}
	for _, text := range []string{"", "*", "*.", "a:b", "a:0", "a:99999", "http://a", "a*b", "a b", "u@a"} {
		_, err := Parse(text)
		assert.Error(t, err, text)
	}
}

func TestAddressesAndWhereTheyLead(t *testing.T) {
	for address, want := range map[string]string{"http://desk.example/berths": "desk.example:80", "https://desk.example": "desk.example:443",
		"http://[::1]:7480/x": "[::1]:7480", "ftp://desk.example": "", "desk.example:80": "", "http://": "", "": ""} {
		at, err := Of(address)
		assert.Equal(t, want, at, address)
		assert.Equal(t, want == "", err != nil, address)
	}
	for at, want := range map[string][2]bool{"localhost:80": {true, false}, "desk.localhost:80": {true, false}, "127.0.0.9:80": {true, false},
		"[::1]:80": {true, false}, "0.0.0.0:80": {true, false}, "10.0.0.1:80": {false, true}, "192.168.1.1": {false, true},
		"[fd00::1]:80": {false, true}, "desk.example:80": {}, "203.0.113.9:80": {}, "notlocalhost:80": {}} {
		local, private := Near(at)
		assert.Equal(t, want, [2]bool{local, private}, at)
	}
	for ip, never := range map[string]bool{"169.254.169.254": true, "fe80::1": true, "fd00:ec2::254": true, "224.0.0.1": true,
		"::ffff:169.254.169.254": true, "127.0.0.1": false, "10.0.0.1": false, "203.0.113.9": false} {
		assert.Equal(t, never, Never(netip.MustParseAddr(ip)) != "", ip)
	}
}

func TestWhatIsInward(t *testing.T) {
	for _, inward := range []string{"127.0.0.1", "127.9.9.9", "::1", "0.0.0.0", "::", "10.1.2.3", "172.16.0.1", "192.168.1.1",
		"169.254.169.254",
		"fe80::1", "fc00::1", "fd00:ec2::254", "100.64.0.1", "100.100.100.200", "192.0.0.192", "198.18.0.1", "224.0.0.1", "ff02::1", "240.0.0.1",
		"255.255.255.255", "::ffff:10.0.0.1", "::ffff:127.0.0.1", "64:ff9b::a00:1", "2002:0a00:0001::1", "fec0::1", "fe80::1%eth0"} {
		assert.True(t, Inward(netip.MustParseAddr(inward)), inward)
	}
	for _, outward := range []string{"93.184.216.34", "8.8.8.8", "172.32.0.1", "100.128.0.1", "2606:2800:220:1::1", "::ffff:8.8.8.8"} {
		assert.False(t, Inward(netip.MustParseAddr(outward)), outward)
	}
}
