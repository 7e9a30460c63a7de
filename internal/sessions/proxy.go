package sessions

import (
	"bytes"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"sync/atomic"
	"time"

	"parallelpane/internal/recording"
)

// proxy is a forward proxy on loopback that sees the traffic of a browser whose
// engine tells nothing about it: requests and answers of http, the fact of a
// connection of https.
type proxy struct {
	l   net.Listener
	srv *http.Server
	to  atomic.Pointer[recording.Network] // nil while nothing is recorded
}

func startProxy() (*proxy, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &proxy{l: l}
	plain := &httputil.ReverseProxy{
		Rewrite:   func(r *httputil.ProxyRequest) { r.Out.Host = r.In.Host },
		Transport: seen{p, &http.Transport{Proxy: http.ProxyFromEnvironment, DisableCompression: true, MaxIdleConnsPerHost: 8}},
		// A site that cannot be reached stays one: an answer of the proxy's own would
		// look like the site's.
		ErrorHandler:  func(w http.ResponseWriter, _ *http.Request, _ error) { breakOff(w) },
		FlushInterval: -1, ErrorLog: log.New(io.Discard, "", 0),
	}
	p.srv = &http.Server{ReadHeaderTimeout: 30 * time.Second, ErrorLog: plain.ErrorLog,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case r.Method == http.MethodConnect:
				p.tunnel(w, r)
			case r.URL.Host == "":
				http.Error(w, "this is a proxy", http.StatusBadRequest)
			default:
				plain.ServeHTTP(w, r)
			}
		})}
	go func() { _ = p.srv.Serve(l) }() // it ends with close
	return p, nil
}

func (p *proxy) address() string { return p.l.Addr().String() }

func (p *proxy) close() { _ = p.srv.Close() }

func breakOff(w http.ResponseWriter) {
	if h, ok := w.(http.Hijacker); ok {
		if conn, _, err := h.Hijack(); err == nil {
			conn.Close()
		}
	}
}

// tunnel passes a connection through unseen.
func (p *proxy) tunnel(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	var x *recording.Exchange
	if n := p.to.Load(); n != nil {
		x = n.Start(r.Method, "https://"+r.Host+"/", http.Header{}, nil, began)
	}
	end := func(why string) {
		if x != nil {
			x.Ended(nil, 0, why, time.Now())
		}
	}
	to, err := net.DialTimeout("tcp", r.Host, 30*time.Second)
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
	if _, err := from.Write([]byte("HTTP/1.1 200 Connection established\r\n\r\n")); err != nil {
		return
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = io.Copy(to, buffered)
		to.Close()
	}()
	_, _ = io.Copy(from, to)
	from.Close()
	<-done
	end("")
}

// seen shows a network recording what passes.
type seen struct {
	p    *proxy
	next http.RoundTripper
}

func (s seen) RoundTrip(req *http.Request) (*http.Response, error) {
	n := s.p.to.Load()
	if n == nil {
		return s.next.RoundTrip(req)
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
		resp.Body = &teed{ReadCloser: resp.Body, x: x}
	}
	return resp, nil
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
