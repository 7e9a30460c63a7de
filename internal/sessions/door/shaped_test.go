package door

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/traffic"
)

// What passes a door that is held to a shape arrives whole, over tunnels too, and no
// sooner than it may; whoever closes a connection waits for nothing more.
func TestADoorHoldsTrafficToAShape(t *testing.T) {
	const size = 64 << 10
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		_, _ = io.WriteString(w, strings.Repeat("x", int(n)))
	})
	plain, secret := httptest.NewServer(answer), httptest.NewTLSServer(answer)
	defer plain.Close()
	defer secret.Close()
	shape := traffic.Shape{Down: 4000, Up: 4000, Delay: 50 * time.Millisecond}
	for _, site := range []*httptest.Server{plain, secret} {
		_, address := opened(t, Rules{Shape: shape})
		c := client(t, address)
		tr := site.Client().Transport.(*http.Transport).Clone()
		tr.Proxy = c.Transport.(*http.Transport).Proxy
		c.Transport = tr
		began := time.Now()
		resp, err := c.Post(site.URL, "text/plain", strings.NewReader(strings.Repeat("y", size)))
		require.NoError(t, err)
		raw, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		require.NoError(t, err)
		assert.Len(t, raw, size)
		// Each way carries 64 KiB at 500 kB/s, the first 16 KiB of it at once; connecting and the answer take a delay each.
		least := 2*(size-chunk)*time.Second/500_000 + 2*shape.Delay
		assert.Greater(t, time.Since(began), least)
		tr.CloseIdleConnections()
	}
	slow, address := opened(t, Rules{Shape: traffic.Shape{Down: 1}})
	c := client(t, address)
	go func() {
		if resp, err := c.Get(plain.URL); err == nil {
			_, _ = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	}()
	require.Eventually(t, func() bool { return slow.Traffic().Connections > 0 }, 5*time.Second, time.Millisecond)
	closed := make(chan struct{})
	go func() { slow.Close(); close(closed) }()
	select {
	case <-closed:
	case <-time.After(20 * time.Second): // at 1 kbit/s the answer would take minutes
		assert.Fail(t, "a door that is closed waits for its slow line")
	}
}

// A way that is switched off in the middle cuts what is open and lets nothing through,
// which is not the site's fault, until it is on again.
func TestADoorIsShutAndOpenedAgain(t *testing.T) {
	late := make(chan struct{})
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/late" {
			close(late)
			<-r.Context().Done()
		}
	}))
	defer site.Close()
	d, address := opened(t, Rules{})
	c := client(t, address)
	cut := make(chan error, 1)
	go func() {
		resp, err := c.Get(site.URL + "/late")
		if err == nil {
			resp.Body.Close()
		}
		cut <- err
	}()
	<-late
	d.Shape(traffic.Shape{Off: true})
	require.Error(t, <-cut)
	_, err := c.Get(site.URL)
	require.Error(t, err)
	require.ErrorIs(t, d.Reach(t.Context(), site.URL), traffic.ErrOff)
	d.Shape(traffic.Shape{})
	resp, err := c.Get(site.URL)
	require.NoError(t, err)
	resp.Body.Close()
	require.NoError(t, d.Reach(t.Context(), site.URL))
}
