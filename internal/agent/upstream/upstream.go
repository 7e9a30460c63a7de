// Package upstream is the service's API as an agent uses it.
package upstream

import (
	"context"
	"crypto/tls"
	"errors"
	"net/http"
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

// Status is the status of a refusal; 0 for any other error.
func Status(err error) int {
	if e, ok := errors.AsType[*client.Error](err); ok {
		return e.Status
	}
	return 0
}
