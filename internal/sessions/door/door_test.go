package door

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/place"
	"parallelpane/internal/recording"
)

// opened opens a door on loopback.
func opened(t *testing.T, rules Rules) (*Door, string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	d := Open(l, rules)
	t.Cleanup(d.Close)
	return d, l.Addr().String()
}

// client is one that goes through a door, as browsers do.
func client(t *testing.T, door string) *http.Client {
	t.Helper()
	tr := &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: door})}
	t.Cleanup(tr.CloseIdleConnections)
	return &http.Client{Transport: tr}
}

func TestADoorSeesWhatItCan(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "text/plain")
		http.SetCookie(w, &http.Cookie{Name: "berth", Value: "A1"})
		if r.URL.Path == "/huge" {
			_, _ = io.WriteString(w, strings.Repeat("x", recording.MaxBody+10))
			return
		}
		_, _ = io.WriteString(w, "heard "+string(body)+r.Header.Get("X-Forwarded-For"))
	}))
	defer plain.Close()
	secret := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "private") }))
	defer secret.Close()
	d, address := opened(t, Rules{})
	c := client(t, address)
	tr := secret.Client().Transport.(*http.Transport).Clone()
	tr.Proxy = c.Transport.(*http.Transport).Proxy
	c.Transport = tr
	say := func(address string) string {
		resp, err := c.Post(address, "text/plain", strings.NewReader("ahoy"))
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(raw)
	}
	assert.Equal(t, "heard ahoy", say(plain.URL+"/before"), "nothing is recorded yet, and nothing is changed")
	n := recording.NewNetwork(time.Now(), "webkitgtk", "2.50")
	d.Record(n)
	assert.Equal(t, "heard ahoy", say(plain.URL+"/hold?boat=Osprey"))
	assert.Len(t, say(plain.URL+"/huge"), recording.MaxBody+10, "what is too long to keep still arrives whole")
	assert.Equal(t, "private", say(secret.URL))
	_, err := c.Get("http://127.0.0.1:1/")
	assert.Error(t, err, "a site that cannot be reached is not answered for")
	tr.CloseIdleConnections()
	direct, err := http.Get("http://" + address + "/")
	require.NoError(t, err)
	direct.Body.Close()
	assert.Equal(t, http.StatusBadRequest, direct.StatusCode)

	require.Eventually(t, func() bool { return len(n.HAR("1").Log.Entries) >= 4 }, 5*time.Second, 5*time.Millisecond)
	e := n.HAR("1").Log.Entries
	assert.Equal(t, []any{"POST", plain.URL + "/hold?boat=Osprey", 200, "heard ahoy", "ahoy"}, []any{e[0].Request.Method, e[0].Request.URL,
		e[0].Response.Status, e[0].Response.Content.Text, e[0].Request.Body.Text})
	assert.Equal(t, []recording.HARPair{{Name: "berth", Value: recording.Masked}}, e[0].Response.Cookies)
	assert.Equal(t, []any{"too long to keep", recording.MaxBody + 10}, []any{e[1].Response.Content.Comment, e[1].Response.Content.Size})
	assert.Equal(t, []string{"CONNECT", secret.URL + "/", ""}, []string{e[2].Request.Method, e[2].Request.URL, e[2].Response.Content.Text})
	assert.Contains(t, e[3].Error, "refused")
}

func TestADoorDoesNotLeadToTheLabNorToKeys(t *testing.T) {
	lab := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "the lab") }))
	defer lab.Close()
	own := netip.MustParseAddrPort(lab.Listener.Addr().String())
	d, address := opened(t, Rules{Closed: func(to netip.AddrPort) bool { return to == own }})
	c := client(t, address)
	port := strconv.Itoa(int(own.Port()))
	for _, host := range []string{own.String(), "localhost:" + port, "[::ffff:127.0.0.1]:" + port, "0.0.0.0:" + port, "2130706433:" + port,
		"169.254.169.254", "169.254.1.1:80", "[fe80::1]", "[fd00:ec2::254]", "100.100.100.200", "224.0.0.1", "255.255.255.255"} {
		resp, err := c.Get("http://" + host + "/latest")
		if assert.Error(t, err, host) {
			continue
		}
		resp.Body.Close()
	}
	for _, host := range []string{own.String(), "localhost:" + port, "169.254.169.254:80"} {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		_, err = fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", host, host)
		require.NoError(t, err)
		raw, _ := io.ReadAll(conn)
		assert.Empty(t, string(raw), host)
		conn.Close()
	}
	refused, ok := errors.AsType[*Refused](d.Reach(t.Context(), lab.URL))
	require.True(t, ok)
	assert.Equal(t, own.String()+" is not to be reached: it is the lab's own", refused.Error())
	assert.ErrorContains(t, d.Reach(t.Context(), "http://169.254.169.254/"), "told their keys")
	assert.ErrorContains(t, d.Reach(t.Context(), "http://127.0.0.1:1/"), "cannot be reached from this agent")
	assert.NoError(t, d.Reach(t.Context(), "about:blank"))
}

func TestADoorMayLeadToListedPlacesOnly(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "berths") }))
	defer site.Close()
	at := netip.MustParseAddrPort(site.Listener.Addr().String())
	listed, err := place.Parse(at.String())
	require.NoError(t, err)
	d, address := opened(t, Rules{Only: []place.Place{listed}})
	resp, err := client(t, address).Get(site.URL)
	require.NoError(t, err)
	resp.Body.Close()
	_, err = client(t, address).Get("http://localhost:" + strconv.Itoa(int(at.Port())))
	assert.Error(t, err, "it is listed by its address")
	assert.ErrorContains(t, d.Reach(t.Context(), "https://saltmarsh.example/"), "saltmarsh.example:443 is not to be reached")
}

// A proxy that a session asks for stands behind the door.
func TestADoorLeadsThroughTheProxyThatIsAskedFor(t *testing.T) {
	secret := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "private") }))
	defer secret.Close()
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "open") }))
	defer site.Close()
	theirs, behind := opened(t, Rules{})
	asked := map[string]any{"proxyType": "manual", "httpProxy": behind, "sslProxy": behind, "noProxy": []any{"localhost", ".harbour.example"}}
	through, err := Asked(asked, nil)
	require.NoError(t, err)
	_, address := opened(t, Rules{Through: through})
	c := client(t, address)
	tr := secret.Client().Transport.(*http.Transport).Clone()
	tr.Proxy = c.Transport.(*http.Transport).Proxy
	c.Transport = tr
	for i, address := range []string{site.URL, secret.URL} {
		resp, err := c.Get(address)
		require.NoError(t, err)
		resp.Body.Close()
		assert.EqualValues(t, i+1, theirs.Traffic().Connections, address)
	}
	resp, err := c.Get(strings.Replace(site.URL, "127.0.0.1", "localhost", 1))
	require.NoError(t, err)
	resp.Body.Close()
	assert.EqualValues(t, 2, theirs.Traffic().Connections, "of what is not to go through it nothing does")

	_, err = Asked(map[string]any{"proxyType": "pac", "proxyAutoconfigUrl": "http://a/"}, nil)
	assert.ErrorContains(t, err, "runs no script to find a proxy")
	direct, err := Asked(map[string]any{"proxyType": "direct"}, through)
	require.NoError(t, err)
	assert.Nil(t, direct)
	same, err := Asked(nil, through)
	require.NoError(t, err)
	assert.NotNil(t, same)
	socks, err := Asked(map[string]any{"proxyType": "manual", "socksProxy": "tide.example:1080", "socksVersion": 5.0}, nil)
	require.NoError(t, err)
	u, err := socks(&url.URL{Scheme: "https", Host: "harbour.example"})
	require.NoError(t, err)
	assert.Equal(t, "socks5://tide.example:1080", u.String())
}

func TestADoorFloodedWithConnectionsServesNoMoreThanItsPlaces(t *testing.T) {
	held := make(chan struct{})
	site := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-held }))
	defer site.Close()
	defer close(held)
	d, address := opened(t, Rules{})
	for range maxConnections + 40 {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer conn.Close()
		_, err = fmt.Fprintf(conn, "GET %s/ HTTP/1.1\r\nHost: x\r\n\r\n", site.URL)
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return d.Traffic().Connections == maxConnections }, 10*time.Second, 5*time.Millisecond)
	d.Close() // ends them all
}

func BenchmarkDoorLargeFile(b *testing.B) {
	body := make([]byte, 64<<20)
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(body) }))
	defer site.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	d := Open(l, Rules{})
	defer d.Close()
	for name, proxy := range map[string]func(*http.Request) (*url.URL, error){
		"direct": nil, "door": http.ProxyURL(&url.URL{Scheme: "http", Host: l.Addr().String()})} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(body)))
			c := &http.Client{Transport: &http.Transport{Proxy: proxy}}
			for b.Loop() {
				resp, err := c.Get(site.URL)
				if err != nil {
					b.Fatal(err)
				}
				_, _ = io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
			}
			c.CloseIdleConnections()
		})
	}
}

// A body that is long reaches a site that answers as soon as it has it, and the answer
// comes back whole.
func TestLongBodiesAndQuickAnswers(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		_, _ = io.WriteString(w, strings.Repeat("x", int(n)))
	}))
	defer site.Close()
	_, address := opened(t, Rules{})
	c := client(t, address)
	for range 300 {
		resp, err := c.Post(site.URL, "text/plain", strings.NewReader(strings.Repeat("y", 64<<10)))
		require.NoError(t, err)
		raw, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		require.NoError(t, err)
		require.Len(t, raw, 64<<10)
	}
}
