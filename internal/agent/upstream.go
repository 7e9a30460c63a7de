package agent

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"parallelpane/internal/client"
)

// upstream is the service's API as an agent uses it.
type upstream struct{ client.Client }

func newUpstream(base, token string) *upstream {
	return &upstream{client.Client{Base: strings.TrimRight(base, "/"), Token: token, HTTP: &http.Client{Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 8, ResponseHeaderTimeout: 15 * time.Second}}}}
}

// webSocket is the address with ws in place of http.
func (u *upstream) webSocket() string { return "ws" + strings.TrimPrefix(u.Base, "http") }

// postLimit is how long a message to the service may take.
const postLimit = 10 * time.Second

func (u *upstream) post(ctx context.Context, path string, body, out any) error {
	ctx, cancel := context.WithTimeout(ctx, postLimit)
	defer cancel()
	return u.Call(ctx, http.MethodPost, path, body, out)
}

// statusOf is the status of a refusal; 0 for any other error.
func statusOf(err error) int {
	if e, ok := errors.AsType[*client.Error](err); ok {
		return e.Status
	}
	return 0
}
