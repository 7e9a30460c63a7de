package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// upstream is the service's API as an agent uses it.
type upstream struct {
	base  string
	token string
	http  *http.Client
}

func newUpstream(base, token string) *upstream {
	return &upstream{strings.TrimRight(base, "/"), token, &http.Client{Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 8, ResponseHeaderTimeout: 15 * time.Second}}}
}

// webSocket is the address with ws in place of http.
func (u *upstream) webSocket() string { return "ws" + strings.TrimPrefix(u.base, "http") }

// answerError is an answer of the service that is not a success.
type answerError struct {
	status int
	detail string
}

func (e *answerError) Error() string { return fmt.Sprintf("status %d: %s", e.status, e.detail) }

func (u *upstream) do(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, u.base+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+u.token)
	if method == http.MethodPost {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := u.http.Do(req)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	var p struct {
		Detail string `json:"detail"`
	}
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 16<<10))
	if json.Unmarshal(raw, &p) != nil || p.Detail == "" {
		p.Detail = strings.TrimSpace(string(raw))
	}
	return nil, &answerError{resp.StatusCode, p.Detail}
}

func (u *upstream) post(ctx context.Context, path string, body, out any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	resp, err := u.do(ctx, http.MethodPost, path, bytes.NewReader(raw))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	return json.NewDecoder(resp.Body).Decode(out)
}

func (u *upstream) putPiece(ctx context.Context, path string, piece []byte, out any) error {
	resp, err := u.do(ctx, http.MethodPut, path, bytes.NewReader(piece))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return json.NewDecoder(resp.Body).Decode(out)
}

func (u *upstream) put(ctx context.Context, path string, body io.Reader) error {
	resp, err := u.do(ctx, http.MethodPut, path, body)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}
