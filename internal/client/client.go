// Package client is the one client of the HTTP API: the command line, the agent and
// the tools use it. It knows no exit code and no wording of the command line.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strings"

	"parallelpane/internal/core/source"
)

// Client calls the API of one service.
type Client struct {
	Base  string // address, without a slash at its end
	Token string
	Head  http.Header  // goes with every request
	HTTP  *http.Client // nil means http.DefaultClient
	Tame  func(v any)  // is given what was read before it is used; may be nil
}

// Error is a problem that the service answered (RFC 9457).
type Error struct {
	Status   int              `json:"status"`
	Detail   string           `json:"detail"`
	Problems []source.Problem `json:"problems"`
}

func (e *Error) Error() string {
	s := e.Detail
	for _, p := range e.Problems {
		s += "\n" + p.Error()
	}
	return s
}

// Refused says whether an error is an answer that asking again would not change.
func Refused(err error) bool {
	e, ok := errors.AsType[*Error](err)
	return ok && e.Status < 500
}

// Unreachable means that no service answered.
type Unreachable struct {
	Base string
	err  error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("no service answers at %s (%v)", e.Base, e.err)
}
func (e *Unreachable) Unwrap() error { return e.err }

// maxProblem bounds what is read of a refusal, in bytes.
const maxProblem = 1 << 20

// Do sends a request; path begins behind /api/v1. The answer is one of success, or that it is
// what the request says it has already;
// otherwise the error is an *Error, an *Unreachable or that of the context.
func (c *Client) Do(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	return c.Ask(ctx, method, path, body, nil)
}

// Ask is Do with further fields in the request's head.
func (c *Client) Ask(ctx context.Context, method, path string, body io.Reader, head http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.Base+"/api/v1"+path, body)
	if err != nil {
		return nil, fmt.Errorf("the service's address %q is not one: %w", c.Base, err)
	}
	maps.Copy(req.Header, c.Head)
	maps.Copy(req.Header, head)
	req.Header.Set("Authorization", "Bearer "+c.Token)
	if body != nil && method == http.MethodPost {
		req.Header.Set("Content-Type", "application/json")
	}
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	resp, err := h.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if inner := errors.Unwrap(err); inner != nil {
			err = inner
		}
		return nil, &Unreachable{c.Base, err}
	}
	if resp.StatusCode < 300 || resp.StatusCode == http.StatusNotModified {
		return resp, nil
	}
	defer resp.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, maxProblem))
	e := &Error{}
	if json.Unmarshal(raw, e) != nil || e.Detail == "" {
		e.Detail = fmt.Sprintf("%s %s: status %d", method, path, resp.StatusCode)
		if text := strings.TrimSpace(string(raw)); text != "" {
			e.Detail += fmt.Sprintf(": %.200s", text)
		}
	}
	e.Status = resp.StatusCode
	return nil, e
}

// Get reads something.
func (c *Client) Get(ctx context.Context, path string, out any) error {
	return c.Call(ctx, http.MethodGet, path, nil, out)
}

// Call sends JSON and reads JSON; nil leaves either out.
func (c *Client) Call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	return c.Send(ctx, method, path, body, out)
}

// Send sends a body as it is and reads JSON; nil leaves either out.
func (c *Client) Send(ctx context.Context, method, path string, body io.Reader, out any) error {
	resp, err := c.Do(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil || resp.StatusCode == http.StatusNoContent {
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("%s answered something else than expected: %w", c.Base, err)
	}
	c.tame(out)
	return nil
}

func (c *Client) tame(v any) {
	if c.Tame != nil {
		c.Tame(v)
	}
}

// SendBundle sends a bundle unless the service has it.
func (c *Client) SendBundle(ctx context.Context, hash string, bundle []byte) (sent bool, err error) {
	return c.SendOnce(ctx, "/bundles/"+hash, bytes.NewReader(bundle))
}

// SendOnce sends contents to where the service does not have them yet.
func (c *Client) SendOnce(ctx context.Context, path string, body io.Reader) (sent bool, err error) {
	resp, err := c.Do(ctx, http.MethodHead, path, nil)
	if err == nil {
		return false, resp.Body.Close()
	}
	if _, ok := errors.AsType[*Error](err); !ok {
		return false, err
	}
	// Not there, or refused: the answer to HEAD cannot say why, the one to PUT does.
	return true, c.Send(ctx, http.MethodPut, path, body, nil)
}
