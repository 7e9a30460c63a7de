package relay

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/hashicorp/yamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/place"
)

// tied is a link in this process.
type tied struct{ *yamux.Session }

func (t tied) Stream() (net.Conn, error) { return t.Open() }
func (t tied) Done() <-chan struct{}     { return t.CloseChan() }

func always() bool { return true }

var tern = api.Who{Name: "tern", TokenID: "t1"}

// rig is a hub with one owner.
type rig struct {
	*Hub
	t      *testing.T
	owner  Owner
	said   chan string
	clock  atomic.Int64 // seconds
	places []string
}

func rigged(t *testing.T, places ...string) *rig {
	r := &rig{t: t, said: make(chan string, 100), places: places}
	r.Hub = NewHub(func() time.Time { return time.Unix(r.clock.Load(), 0) })
	all, err := place.All(places)
	require.NoError(t, err)
	r.owner = Owner{Places: all, Said: func(to string, _, _ int64, err error) {
		if err != nil {
			r.said <- err.Error()
		}
	}}
	return r
}

// connect has the owner connect; cut loses the connection.
func (r *rig) connect() (cut func()) {
	r.t.Helper()
	q := api.RelayRequest{Project: "saltmarsh", Name: "pier", Places: r.places}
	places, err := r.Admit(tern, q)
	require.NoError(r.t, err)
	a, b := net.Pipe()
	conf := yamux.DefaultConfig()
	conf.LogOutput = io.Discard
	here, err := yamux.Server(a, conf)
	require.NoError(r.t, err)
	there, err := yamux.Client(b, conf)
	require.NoError(r.t, err)
	var tasks sync.WaitGroup
	tasks.Go(func() { _ = r.owner.Serve(here) })
	tasks.Go(func() { r.Hold(tern, q, places, tied{there}) })
	require.Eventually(r.t, func() bool {
		all := r.Relays()
		return len(all) == 1 && !all[0].Away
	}, 5*time.Second, time.Millisecond)
	cut = sync.OnceFunc(func() {
		a.Close()
		b.Close()
		here.Close()
		tasks.Wait()
	})
	r.t.Cleanup(cut)
	return cut
}

// client reaches sites as an agent's browsers do, through the hub.
func (r *rig) client() *http.Client {
	t := &http.Transport{DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
		c, err := r.Dial(ctx, "saltmarsh", "pier", address, always)
		if err != nil {
			return nil, err
		}
		near, far := net.Pipe()
		go c.Join(far)
		return near, nil
	}}
	r.t.Cleanup(t.CloseIdleConnections)
	return &http.Client{Transport: t, Timeout: 20 * time.Second}
}

func TestARelayLeadsToItsPlacesOnly(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		fmt.Fprintf(w, "%s took %d", r.Host, n)
	}))
	t.Cleanup(site.Close)
	other := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(other.Close)
	at := site.Listener.Addr().String()
	_, port, _ := net.SplitHostPort(at)
	r := rigged(t, at, "localhost:"+port, "localhost:1", "169.254.0.0/16")
	r.connect()
	for _, host := range []string{at, "localhost:" + port} {
		resp, err := r.client().Post("http://"+host+"/hold", "text/plain", strings.NewReader(strings.Repeat("x", 1<<20)))
		require.NoError(t, err)
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Equal(t, fmt.Sprintf("%s took %d", host, 1<<20), string(body), "names are kept")
	}
	for _, tc := range []struct{ to, want string }{
		{other.Listener.Addr().String(), "is not on the list of relay pier: " + at},
		{"localhost:1", "localhost:1 cannot be reached from the relay's machine"},
		{"169.254.169.254:80", "it is where machines are told their keys"},
		{"nonsense", "is not on the list"},
	} {
		_, err := r.Dial(t.Context(), "saltmarsh", "pier", tc.to, always)
		assert.ErrorContains(t, err, tc.want, tc.to)
	}
	all := r.Relays()
	assert.Equal(t, int64(2), all[0].Refused)
	assert.Greater(t, all[0].In, int64(2<<20), "bytes to the application are counted")
	assert.Contains(t, all[0].Trouble, "169.254.169.254", "of the latest that could not be made")
}

// The owner asks its own list, whatever the service lets through.
func TestAnOwnerTrustsNobodyWithItsList(t *testing.T) {
	r := rigged(t, "desk.example:80")
	r.connect()
	r.mu.Lock()
	for _, w := range r.open {
		w.places, _ = place.All([]string{"127.0.0.1:22"})
	}
	r.mu.Unlock()
	_, err := r.Dial(t.Context(), "saltmarsh", "pier", "127.0.0.1:22", always)
	assert.ErrorContains(t, err, "127.0.0.1:22 is not on the list of this relay: desk.example:80")
	assert.Contains(t, <-r.said, "is not on the list")
}

func TestAnOwnerWhoLosesTheConnectionComesBack(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "berths") }))
	t.Cleanup(site.Close)
	r := rigged(t, site.Listener.Addr().String())
	cut := r.connect()
	resp, err := r.client().Get(site.URL)
	require.NoError(t, err)
	resp.Body.Close()
	cut()
	require.Eventually(t, func() bool { return r.Relays()[0].Away }, 5*time.Second, time.Millisecond)
	waits := make(chan error)
	go func() { // it waits for the owner
		resp, err := r.client().Get(site.URL)
		if err == nil {
			resp.Body.Close()
		}
		waits <- err
	}()
	_, err = r.Admit(api.Who{Name: "heron", TokenID: "t2"}, api.RelayRequest{Project: "saltmarsh", Name: "pier", Places: []string{"a:1"}})
	assert.ErrorContains(t, err, "relay pier of project saltmarsh is tern's", "nobody else takes its place")
	cut = r.connect()
	require.NoError(t, <-waits)
	assert.EqualValues(t, 2, r.Relays()[0].Connections, "it is the same relay")

	cut()
	require.Eventually(t, func() bool { return r.Relays()[0].Away }, 5*time.Second, time.Millisecond)
	r.clock.Add(int64(Patience/time.Second) + 1)
	r.look()
	assert.Empty(t, r.Relays())
	_, err = r.Dial(t.Context(), "saltmarsh", "pier", site.Listener.Addr().String(), always)
	assert.ErrorContains(t, err, "there is no relay pier open in project saltmarsh")
}

// Whoever opens a relay may name it as soon as the service has let them in.
func TestARelayIsOpenFromItsAdmission(t *testing.T) {
	r := rigged(t, "localhost:8080")
	_, err := r.Admit(tern, api.RelayRequest{Project: "saltmarsh", Name: "pier", Places: r.places})
	require.NoError(t, err)
	places, err := r.Places("saltmarsh", "pier")
	require.NoError(t, err)
	assert.Equal(t, r.places, places)
	require.Len(t, r.Relays(), 1)
	assert.True(t, r.Relays()[0].Away)
	r.clock.Add(int64(Patience/time.Second) + 1)
	r.look()
	assert.Empty(t, r.Relays(), "an owner who asks and does not come has none")
}

// An owner may be back before the service knows that the connection was lost.
func TestAnOwnerWhoIsBackBeforeTheLossIsSeen(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "berths") }))
	t.Cleanup(site.Close)
	r := rigged(t, site.Listener.Addr().String())
	r.connect()
	r.connect()
	resp, err := r.client().Get(site.URL)
	require.NoError(t, err)
	resp.Body.Close()
	require.NoError(t, r.End(tern, "saltmarsh", "pier"))
	assert.Empty(t, r.Relays())
}

func TestARelayEndsWithItsOwnerAndConnectionsWithTheirWork(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() { // a site that speaks first, and never ends
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprintln(c, "ahoy")
		}
	}()
	r := rigged(t, l.Addr().String())
	r.connect()
	open := func(may func() bool) (near net.Conn, gone chan struct{}) {
		c, err := r.Dial(t.Context(), "saltmarsh", "pier", l.Addr().String(), may)
		require.NoError(t, err)
		near, far := net.Pipe()
		gone = make(chan struct{})
		go func() { defer close(gone); c.Join(far) }()
		line, err := bufio.NewReader(near).ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, "ahoy\n", line)
		return near, gone
	}
	var over atomic.Bool
	_, first := open(func() bool { return !over.Load() })
	_, second := open(always)
	assert.Equal(t, 2, r.Relays()[0].Open)
	r.look()
	assert.Equal(t, 2, r.Relays()[0].Open)
	over.Store(true)
	r.look()
	<-first
	assert.Equal(t, 1, r.Relays()[0].Open)
	err = r.End(api.Who{Name: "heron", TokenID: "t2"}, "saltmarsh", "pier")
	assert.ErrorContains(t, err, "relay pier is tern's")
	require.NoError(t, r.End(tern, "saltmarsh", "pier"))
	<-second
	assert.Empty(t, r.Relays())
	assert.Error(t, r.End(tern, "saltmarsh", "pier"))
	_, err = r.Admit(tern, api.RelayRequest{Project: "saltmarsh", Name: "pier", Places: []string{"a:1"}, Again: true})
	assert.ErrorContains(t, err, "relay pier of project saltmarsh was ended by tern", "its owner's program does not open it again by itself")
	_, err = r.Admit(tern, api.RelayRequest{Project: "saltmarsh", Name: "pier", Places: []string{"a:1"}})
	assert.NoError(t, err, "a person may")
	r.clock.Add(int64(10*Patience/time.Second) + 1)
	r.look()
	assert.Empty(t, r.ended)
}

func TestAProgramThatIsDoneSendingStillReads(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		all, _ := io.ReadAll(c)
		fmt.Fprintf(c, "read %d", len(all))
		c.Close()
	}()
	r := rigged(t, l.Addr().String())
	r.connect()
	c, err := r.Dial(t.Context(), "saltmarsh", "pier", l.Addr().String(), always)
	require.NoError(t, err)
	near, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { near.Close() })
	mine, err := net.Dial("tcp", near.Addr().String())
	require.NoError(t, err)
	far, err := near.Accept()
	require.NoError(t, err)
	go c.Join(far)
	_, err = io.WriteString(mine, "all there is")
	require.NoError(t, err)
	require.NoError(t, mine.(*net.TCPConn).CloseWrite())
	said, err := io.ReadAll(mine)
	require.NoError(t, err)
	assert.Equal(t, "read 12", string(said))
}

func TestWhoAsksForARelayWrongly(t *testing.T) {
	h := NewHub(time.Now)
	for want, q := range map[string]api.RelayRequest{
		"name what may be reached":    {Project: "saltmarsh", Name: "pier"},
		"expected letters, digits":    {Project: "saltmarsh", Name: "a pier", Places: []string{"a:1"}},
		"expected a port number":      {Project: "saltmarsh", Name: "pier", Places: []string{"a:x"}},
		"expected at most 100, found": {Project: "saltmarsh", Name: "pier", Places: strings.Fields(strings.Repeat("a:1 ", 101))},
	} {
		_, err := h.Admit(tern, q)
		var said *api.Error
		require.ErrorAs(t, err, &said, want)
		assert.Equal(t, api.Invalid, said.Kind)
		assert.ErrorContains(t, err, want)
	}
	_, err := h.Places("saltmarsh", "pier")
	assert.ErrorContains(t, err, "with pane relay --name pier HOST:PORT")
	assert.ErrorIs(t, (&passing{}).CloseWrite(), errors.ErrUnsupported)
}
