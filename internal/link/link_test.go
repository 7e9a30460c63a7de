package link

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/valyala/fasthttp"
)

// pair opens a link over loopback and returns the service's end.
func pair(t testing.TB, handler http.Handler) *Agent {
	t.Helper()
	ends := make(chan *Agent, 1)
	up := websocket.FastHTTPUpgrader{Subprotocols: []string{Protocol}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	srv := &fasthttp.Server{KeepHijackedConns: true, Handler: func(ctx *fasthttp.RequestCtx) {
		if string(ctx.Request.Header.Peek("Authorization")) != "Bearer good" {
			ctx.SetStatusCode(401)
			ctx.SetBodyString(`{"detail":"the token is not valid here"}`)
			return
		}
		_ = up.Upgrade(ctx, func(ws *websocket.Conn) {
			a, err := Serve(ws)
			if err != nil {
				return
			}
			defer a.Close()
			ends <- a
			<-a.Done()
		})
	}}
	go func() { _ = srv.Serve(l) }()
	t.Cleanup(func() { _ = l.Close() })
	address := "ws://" + l.Addr().String() + Path
	_, err = Dial(t.Context(), address, http.Header{"Authorization": {"Bearer bad"}}, nil)
	var refused *Refused
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, 401, refused.Status)
	assert.Equal(t, "the token is not valid here", refused.Reason)

	agent, err := Dial(t.Context(), address, http.Header{"Authorization": {"Bearer good"}}, nil)
	require.NoError(t, err)
	s := &http.Server{Handler: handler, ReadHeaderTimeout: time.Second}
	go func() { _ = s.Serve(agent) }()
	t.Cleanup(func() { _ = s.Close() })
	return <-ends
}

func ask(a *Agent, path, body string) (string, error) {
	req, resp := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
	req.SetRequestURI("http://agent" + path)
	req.Header.SetMethod("POST")
	req.SetBodyString(body)
	err := a.Do(req, resp, 10*time.Second)
	return string(resp.Body()), err
}

func echo() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s", r.URL.Path, body)
	})
}

func TestManyRequestsAtOnce(t *testing.T) {
	a := pair(t, echo())
	var wg sync.WaitGroup
	for i := range 50 {
		wg.Go(func() {
			got, err := ask(a, fmt.Sprintf("/%d", i), "ahoy")
			assert.NoError(t, err)
			assert.Equal(t, fmt.Sprintf("/%d ahoy", i), got)
		})
	}
	wg.Wait()
}

func TestLargeBodies(t *testing.T) {
	a := pair(t, echo())
	body := strings.Repeat("tide", 1<<20)
	got, err := ask(a, "/x", body)
	require.NoError(t, err)
	assert.Len(t, got, len(body)+3)
}

func TestALostLinkFailsItsRequests(t *testing.T) {
	a := pair(t, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	errs := make(chan error, 1)
	go func() {
		_, err := ask(a, "/hang", "")
		errs <- err
	}()
	require.NoError(t, a.Close())
	require.Error(t, <-errs)
	<-a.Done()
}

func BenchmarkRoundTrip(b *testing.B) {
	a := pair(b, echo())
	for b.Loop() {
		if _, err := ask(a, "/x", "ahoy"); err != nil {
			b.Fatal(err)
		}
	}
}
