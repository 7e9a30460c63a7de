// Package link is the connection between the service and an agent. The agent
// opens one WebSocket; over it runs yamux; on its streams the service speaks
// plain HTTP/1.1 to the agent. What the agent has to say it says to the API
// over HTTP, in the messages of this package.
package link

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/hashicorp/yamux"
	"github.com/valyala/fasthttp"
)

// Protocol is the WebSocket subprotocol of the link.
const Protocol = "parallelpane.link.1"

// Path is where the service takes links, under its address.
const Path = "/api/v1/agent/link"

// HelloPath is where an agent introduces itself, under the service's API.
const HelloPath = "/agent/hello"

// TicketHeader carries the ticket that the service answered to the agent's Hello.
const TicketHeader = "Pane-Ticket"

// PhoneHeader names the phone that a machine's agent speaks for, with its own token.
const PhoneHeader = "Pane-Phone"

// RelayProtocol is what an agent asks to change to (RFC 9110 section 7.8) for a connection
// through a relay.
const RelayProtocol = "parallelpane.relay.1"

// PictureHeader carries the number of a session's picture.
const PictureHeader = "Pane-Picture"

// PrintPath is where an agent prints a page as PDF, with the browser of this name.
const (
	PrintPath = "/print"
	Printer   = "chromium"
)

func muxConfig() *yamux.Config {
	c := yamux.DefaultConfig()
	c.LogOutput = io.Discard
	c.EnableKeepAlive = true
	c.KeepAliveInterval = 5 * time.Second
	c.ConnectionWriteTimeout = 10 * time.Second
	c.StreamOpenTimeout = 10 * time.Second
	c.StreamCloseTimeout = 30 * time.Second
	c.MaxStreamWindowSize = 1 << 20 // bytes; what relays carry may be long
	return c
}

// maxAnswer bounds what an agent answers to one request, in bytes: it is held in memory.
const maxAnswer = 128 << 20

// Agent is the service's end of a link.
type Agent struct {
	mux    *yamux.Session
	client *fasthttp.HostClient
}

// Serve takes a link on an upgraded WebSocket. The HTTP server has to keep
// hijacked connections (fasthttp.Server.KeepHijackedConns), and the handler may
// not return before Close has: until then the link uses the connection.
func Serve(ws *websocket.Conn) (*Agent, error) {
	mux, err := yamux.Client(newConn(ws), muxConfig())
	if err != nil {
		return nil, fmt.Errorf("link: %w", err)
	}
	return &Agent{mux: mux, client: &fasthttp.HostClient{
		Addr:                     "agent",
		Dial:                     func(string) (net.Conn, error) { return mux.Open() },
		MaxConns:                 4096,
		MaxIdleConnDuration:      30 * time.Second,
		MaxResponseBodySize:      maxAnswer,
		NoDefaultUserAgentHeader: true,
		DisablePathNormalizing:   true, // commands of sessions travel as they are
		RetryIfErr:               func(*fasthttp.Request, int, error) (bool, bool) { return false, false },
	}}, nil
}

// Do sends a request to the agent.
func (a *Agent) Do(req *fasthttp.Request, resp *fasthttp.Response, limit time.Duration) error {
	return a.client.DoTimeout(req, resp, limit)
}

// Stream opens a stream to the agent on which HTTP/1.1 is spoken, for requests
// that become something else.
func (a *Agent) Stream() (net.Conn, error) { return a.mux.Open() }

// Done is closed when the link is gone.
func (a *Agent) Done() <-chan struct{} { return a.mux.CloseChan() }

// Close ends the link and returns when nothing uses its connection any more.
func (a *Agent) Close() error { return a.mux.Close() }

// Refused means that the service answered and would not take the link.
type Refused struct {
	Status int
	Reason string
}

func (e *Refused) Error() string { return e.Reason }

// Dial opens a link from the agent's side. The listener accepts the streams
// that the service opens; serve HTTP on it.
func Dial(ctx context.Context, address string, header http.Header, conf *tls.Config) (net.Listener, error) {
	d := websocket.Dialer{HandshakeTimeout: 15 * time.Second, Subprotocols: []string{Protocol}, TLSClientConfig: conf,
		Proxy: http.ProxyFromEnvironment, ReadBufferSize: 32 << 10, WriteBufferSize: 32 << 10}
	ws, resp, err := d.DialContext(ctx, address, header)
	if err != nil {
		if resp != nil && errors.Is(err, websocket.ErrBadHandshake) {
			body, _ := io.ReadAll(io.LimitReader(resp.Body, 4<<10))
			return nil, &Refused{resp.StatusCode, reasonOf(resp.StatusCode, body)}
		}
		return nil, fmt.Errorf("connect to the service: %w", err)
	}
	mux, err := yamux.Server(newConn(ws), muxConfig())
	if err != nil {
		ws.Close()
		return nil, fmt.Errorf("link: %w", err)
	}
	return mux, nil
}
