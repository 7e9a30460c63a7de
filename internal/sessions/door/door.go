// Package door is the one way out of a session: a forward proxy for http, https
// and WebSockets through which its browser reaches every site, loopback included.
// It refuses what is the lab's own and where machines are told their keys, counts
// what passes, and tells a recording what it sees where an engine says nothing of
// its network. It never answers for a site.
package door

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/net/proxy"

	"parallelpane/internal/core/traffic"
	"parallelpane/internal/place"
	"parallelpane/internal/recording"
)

// maxConnections bounds what one session holds open at once; further ones wait.
const maxConnections = 256

// connecting bounds how long a site may take to take a connection.
const connecting = 30 * time.Second

// Door is open until Close.
type Door struct {
	rules Rules
	line  atomic.Pointer[line]
	to    atomic.Pointer[recording.Network] // nil while nothing is recorded
	plain *http.Transport
	srv   *http.Server
	ended context.Context // of its tunnels
	end   context.CancelFunc
	open  sync.WaitGroup

	connections, in, out atomic.Int64
}

// Traffic is what has passed through a door.
type Traffic struct {
	Connections int64
	In, Out     int64 // bytes to the browser and from it, of bodies and tunnels that have ended
}

// Open opens a door for whoever connects to l, which it closes at its end.
func Open(l net.Listener, rules Rules) *Door {
	d := &Door{rules: rules}
	d.line.Store(newLine(rules.Shape))
	d.ended, d.end = context.WithCancel(context.Background())
	d.plain = &http.Transport{Proxy: d.through, DialContext: d.dial, DisableCompression: true, MaxIdleConnsPerHost: 8,
		IdleConnTimeout: 30 * time.Second}
	quiet := log.New(io.Discard, "", 0)
	plain := &httputil.ReverseProxy{
		Rewrite:   func(r *httputil.ProxyRequest) { r.Out.Host = r.In.Host },
		Transport: seen{d, d.plain},
		// A site that cannot be reached stays one: an answer of the door's own would
		// look like the site's.
		ErrorHandler:  func(w http.ResponseWriter, _ *http.Request, _ error) { breakOff(w) },
		FlushInterval: -1, ErrorLog: quiet, BufferPool: &buffers{},
	}
	d.srv = &http.Server{ReadHeaderTimeout: 30 * time.Second, MaxHeaderBytes: 256 << 10, ErrorLog: quiet,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case r.Method == http.MethodConnect:
				d.tunnel(w, r)
			case r.URL.Host == "" || r.URL.Scheme != "http":
				http.Error(w, "this is a proxy", http.StatusBadRequest)
			default:
				// Else the body counts as closed once the site answers, though it may still be on its way there.
				_ = http.NewResponseController(w).EnableFullDuplex()
				plain.ServeHTTP(w, r)
			}
		})}
	d.open.Go(func() {
		_ = d.srv.Serve(&limited{Listener: l, taken: make(chan struct{}, maxConnections), ended: d.ended})
	}) // it ends with Close
	return d
}

// Record tells a recording what passes from now on; nil ends that.
func (d *Door) Record(n *recording.Network) { d.to.Store(n) }

// Traffic is what has passed so far.
func (d *Door) Traffic() Traffic {
	return Traffic{d.connections.Load(), d.in.Load(), d.out.Load()}
}

// Reach tries to get to a site as the browser would. The error is a *Refused when
// the door does not lead there.
func (d *Door) Reach(ctx context.Context, address string) error { return Try(ctx, d.plain, address) }

// Try tries to get to an address; any HTTP answer will do.
func Try(ctx context.Context, by http.RoundTripper, address string) error {
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, address, nil)
	if err != nil {
		return err
	}
	resp, err := by.RoundTrip(req)
	if refused, ok := errors.AsType[*Refused](err); ok {
		return refused
	}
	if errors.Is(err, traffic.ErrOff) {
		return traffic.ErrOff
	}
	if err != nil {
		return fmt.Errorf("%s://%s cannot be reached from this agent: %w", u.Scheme, u.Host, err)
	}
	return resp.Body.Close()
}

// Close ends every connection through the door.
func (d *Door) Close() {
	d.end()
	d.line.Load().end()
	_ = d.srv.Close()
	d.plain.CloseIdleConnections()
	d.open.Wait()
}

// through gives the proxy that leads to where a request goes.
func (d *Door) through(req *http.Request) (*url.URL, error) {
	host, port := req.URL.Hostname(), place.Port(req.URL)
	if d.rules.Relay.leads(net.JoinHostPort(host, port)) {
		return nil, nil
	}
	if err := d.rules.name(host, port); err != nil {
		return nil, err
	}
	if d.rules.Through == nil {
		return nil, nil
	}
	return d.rules.Through(req.URL)
}

// dial connects to an address that the rules allow, whatever name led to it.
func (d *Door) dial(ctx context.Context, network, address string) (net.Conn, error) {
	d.connections.Add(1)
	l := d.line.Load()
	if l.off {
		return nil, traffic.ErrOff
	}
	if d.rules.Relay.leads(address) {
		conn, err := d.rules.Relay.Dial(ctx, address)
		if err != nil {
			return nil, err
		}
		return l.take(ctx, conn)
	}
	dialer := net.Dialer{Timeout: connecting, ControlContext: func(_ context.Context, _, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return d.rules.reach(to)
	}}
	conn, err := dialer.DialContext(ctx, network, address)
	if refused, ok := errors.AsType[*Refused](err); ok {
		return nil, refused
	}
	if err != nil {
		return conn, err
	}
	return l.take(ctx, conn)
}

// reach connects to a site for a tunnel, through another proxy if there is one.
func (d *Door) reach(ctx context.Context, host string) (net.Conn, error) {
	target := &http.Request{URL: &url.URL{Scheme: "https", Host: host}}
	via, err := d.through(target)
	switch {
	case err != nil:
		return nil, err
	case via == nil:
		return d.dial(ctx, "tcp", host)
	case via.Scheme == "socks5":
		s, err := proxy.SOCKS5("tcp", via.Host, nil, dialing(d.dial))
		if err != nil {
			return nil, err
		}
		return s.(proxy.ContextDialer).DialContext(ctx, "tcp", host)
	}
	conn, err := d.dial(ctx, "tcp", net.JoinHostPort(via.Hostname(), place.Port(via)))
	if err != nil {
		return nil, err
	}
	_ = conn.SetDeadline(time.Now().Add(connecting))
	fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", host, host)
	// Nothing follows the head before the browser has spoken, so none of it is lost.
	resp, err := http.ReadResponse(bufio.NewReader(conn), &http.Request{Method: http.MethodConnect})
	if err == nil && resp.StatusCode/100 != 2 {
		err = fmt.Errorf("proxy %s: %s", via.Host, resp.Status)
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return conn, conn.SetDeadline(time.Time{})
}

// dialing makes a dialer of a function.
type dialing func(ctx context.Context, network, address string) (net.Conn, error)

func (f dialing) Dial(network, address string) (net.Conn, error) {
	return f(context.Background(), network, address)
}

func (f dialing) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	return f(ctx, network, address)
}

func breakOff(w http.ResponseWriter) {
	if h, ok := w.(http.Hijacker); ok {
		if conn, _, err := h.Hijack(); err == nil {
			conn.Close()
		}
	}
}

// tunnel passes a connection through unseen.
func (d *Door) tunnel(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	var x *recording.Exchange
	if n := d.to.Load(); n != nil {
		x = n.Start(r.Method, "https://"+r.Host+"/", http.Header{}, nil, began)
	}
	end := func(why string) {
		if x != nil {
			x.Ended(nil, 0, why, time.Now())
		}
	}
	to, err := d.reach(r.Context(), r.Host)
	if err != nil {
		end(err.Error())
		breakOff(w)
		return
	}
	defer to.Close()
	from, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		end(err.Error())
		return
	}
	defer from.Close()
	socket := from
	if c, ok := from.(*limitedConn); ok {
		socket = c.Conn
	}
	stop := context.AfterFunc(d.ended, func() {
		to.Close()
		from.Close()
	})
	defer stop()
	if _, err := from.Write([]byte("HTTP/1.1 200 Connection established\r\n\r\n")); err != nil {
		return
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		early, _ := io.CopyN(to, buffered, int64(buffered.Reader.Buffered()))
		n, _ := io.Copy(to, socket) // between sockets, which the kernel does by itself
		d.out.Add(early + n)
		half(to)
	}()
	n, _ := io.Copy(socket, to)
	d.in.Add(n)
	half(socket)
	<-done
	end("")
}

// limited accepts no more connections than there is room for in taken.
type limited struct {
	net.Listener
	taken chan struct{}
	ended context.Context
}

// Accept waits for a place and for a connection.
func (l *limited) Accept() (net.Conn, error) {
	select {
	case l.taken <- struct{}{}:
	case <-l.ended.Done():
		return nil, net.ErrClosed
	}
	c, err := l.Listener.Accept()
	if err != nil {
		<-l.taken
		return nil, err
	}
	return &limitedConn{Conn: c, leave: sync.OnceFunc(func() { <-l.taken })}, nil
}

type limitedConn struct {
	net.Conn
	leave func()
}

// Close gives the place back.
func (c *limitedConn) Close() error {
	defer c.leave()
	return c.Conn.Close()
}

// half says that no more comes on a connection, and leaves the other way open.
func half(c net.Conn) {
	if t, ok := c.(interface{ CloseWrite() error }); ok {
		_ = t.CloseWrite()
		return
	}
	c.Close()
}

// buffers are for bodies on their way.
type buffers struct{ sync.Pool }

func (b *buffers) Get() []byte {
	if x, ok := b.Pool.Get().(*[]byte); ok {
		return *x
	}
	return make([]byte, 64<<10)
}

func (b *buffers) Put(x []byte) { b.Pool.Put(&x) }

// seen shows a network recording what passes.
type seen struct {
	d    *Door
	next http.RoundTripper
}

func (s seen) RoundTrip(req *http.Request) (*http.Response, error) {
	n := s.d.to.Load()
	if n == nil {
		resp, err := s.next.RoundTrip(req)
		if err == nil && resp.StatusCode != http.StatusSwitchingProtocols {
			resp.Body = &counted{resp.Body, &s.d.in}
		}
		return resp, err
	}
	var body []byte
	if req.Body != nil && req.ContentLength > 0 && req.ContentLength <= recording.MaxBody {
		var err error
		if body, err = io.ReadAll(req.Body); err != nil {
			return nil, err
		}
		req.Body = io.NopCloser(bytes.NewReader(body))
	}
	x := n.Start(req.Method, req.URL.String(), req.Header, body, time.Now())
	resp, err := s.next.RoundTrip(req)
	if err != nil {
		x.Ended(nil, 0, err.Error(), time.Now())
		return nil, err
	}
	x.Answered(resp, time.Now())
	if resp.StatusCode != http.StatusSwitchingProtocols {
		resp.Body = &teed{ReadCloser: &counted{resp.Body, &s.d.in}, x: x}
	}
	return resp, nil
}

// counted counts what is read.
type counted struct {
	io.ReadCloser
	n *atomic.Int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n.Add(int64(n))
	return n, err
}

// teed keeps the beginning of what is read.
type teed struct {
	io.ReadCloser
	x    *recording.Exchange
	kept []byte
	size int
	over bool
}

func (t *teed) Read(p []byte) (int, error) {
	n, err := t.ReadCloser.Read(p)
	t.kept = append(t.kept, p[:min(n, recording.MaxBody-len(t.kept))]...)
	t.size += n
	if err != nil && !t.over {
		t.over = true
		why := ""
		if !errors.Is(err, io.EOF) {
			why = err.Error()
		}
		t.x.Ended(t.kept, t.size, why, time.Now())
	}
	return n, err
}
