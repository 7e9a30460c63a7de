// Package upstream is the service's API as an agent uses it.
package upstream

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/client"
	"parallelpane/internal/link"
)

// Service is the service.
type Service struct{ client.Client }

// New speaks to the service at an address, with a token; conf says how it is known over
// TLS, nil means by the machine's certificate authorities. phone names the one that an
// agent is for; "" of a machine's own.
func New(base, token string, conf *tls.Config, phone string) *Service {
	head := http.Header{}
	if phone != "" {
		head.Set(link.PhoneHeader, phone)
	}
	return &Service{client.Client{Base: strings.TrimRight(base, "/"), Token: token, Head: head, HTTP: &http.Client{Transport: &http.Transport{
		TLSClientConfig: conf, Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 8, ResponseHeaderTimeout: 15 * time.Second}}}}
}

// WebSocket is the address with ws in place of http.
func (u *Service) WebSocket() string { return "ws" + strings.TrimPrefix(u.Base, "http") }

// postLimit is how long a message to the service may take.
const postLimit = 10 * time.Second

// Post sends a message and reads the answer, unless out is nil.
func (u *Service) Post(ctx context.Context, path string, body, out any) error {
	ctx, cancel := context.WithTimeout(ctx, postLimit)
	defer cancel()
	return u.Call(ctx, http.MethodPost, path, body, out)
}

// From fetches something from a place on, in bytes; the answer's status says whether the
// service begins there (RFC 9110 section 14).
func (u *Service) From(ctx context.Context, path string, from int64) (*http.Response, error) {
	h := http.Header{}
	if from > 0 {
		h.Set("Range", "bytes="+strconv.FormatInt(from, 10)+"-")
	}
	return u.Ask(ctx, http.MethodGet, path, nil, h)
}

// Through connects to places through the relay that the work under a lease asks for.
func (u *Service) Through(fence int64) func(ctx context.Context, address string) (net.Conn, error) {
	return func(ctx context.Context, address string) (net.Conn, error) {
		q := url.Values{"fence": {strconv.FormatInt(fence, 10)}, "to": {address}}
		resp, err := u.Ask(ctx, http.MethodGet, "/agent/relay?"+q.Encode(), nil,
			http.Header{"Connection": {"Upgrade"}, "Upgrade": {link.RelayProtocol}})
		if err != nil {
			return nil, err
		}
		both, ok := resp.Body.(io.ReadWriteCloser)
		if resp.StatusCode != http.StatusSwitchingProtocols || !ok {
			resp.Body.Close()
			return nil, fmt.Errorf("the service answered %s to a connection through the relay", resp.Status)
		}
		return relayed{both}, nil
	}
}

// Status is the status of a refusal; 0 for any other error.
func Status(err error) int {
	if e, ok := errors.AsType[*client.Error](err); ok {
		return e.Status
	}
	return 0
}

// relayed is the connection that such a request became. It has no addresses and no
// deadlines of its own.
type relayed struct{ io.ReadWriteCloser }

func (relayed) LocalAddr() net.Addr              { return &net.TCPAddr{} }
func (relayed) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (relayed) SetDeadline(time.Time) error      { return nil }
func (relayed) SetReadDeadline(time.Time) error  { return nil }
func (relayed) SetWriteDeadline(time.Time) error { return nil }
