package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/verdict"
)

// DefaultAddress is where a service listens unless told otherwise.
const DefaultAddress = "127.0.0.1:7420"

// client calls the API.
type client struct {
	base  string
	token string
	http  *http.Client
}

// apiError is a problem that the service answered.
type apiError struct {
	Status   int              `json:"status"`
	Detail   string           `json:"detail"`
	Problems []source.Problem `json:"problems"`
}

func (e *apiError) Error() string {
	s := e.Detail
	for _, p := range e.Problems {
		s += "\n" + p.Error()
	}
	return s
}

func (c *client) do(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return nil, usage("the service's address %q is not one: %v", c.base, err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if body != nil && method == http.MethodPost {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if inner := errors.Unwrap(err); inner != nil {
			err = inner
		}
		return nil, &exitError{verdict.ExitLab, fmt.Errorf("no service answers at %s (%w): start one with pane serve, or name another with --service or PANE_SERVICE", c.base, err)}
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	e := &apiError{Status: resp.StatusCode}
	if json.Unmarshal(raw, e) != nil || e.Detail == "" {
		e.Detail = fmt.Sprintf("%s %s: status %d", method, path, resp.StatusCode)
	}
	code := verdict.ExitUsage
	if resp.StatusCode >= 500 {
		code = verdict.ExitLab
	}
	return nil, &exitError{code, e}
}

func (c *client) get(ctx context.Context, path string, out any) error {
	return c.json(ctx, http.MethodGet, path, nil, out)
}

func (c *client) json(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	resp, err := c.do(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil || resp.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("%s answered something else than expected: %w", c.base, err)
	}
	return nil
}

// sendBundle sends a bundle unless the service has it.
func (c *client) sendBundle(ctx context.Context, hash string, bundle []byte) (sent bool, err error) {
	resp, err := c.do(ctx, http.MethodHead, "/bundles/"+hash, nil)
	if err == nil {
		return false, resp.Body.Close()
	}
	if _, ok := errors.AsType[*apiError](err); !ok {
		return false, err
	}
	// Not there, or refused: the answer to HEAD cannot say why, the one to PUT does.
	resp, err = c.do(ctx, http.MethodPut, "/bundles/"+hash, bytes.NewReader(bundle))
	if err != nil {
		return false, err
	}
	return true, resp.Body.Close()
}

// follow calls f for each event of a run, after fresh was called with the
// run as it stands; again after each lost connection. It returns when f says
// stop, the context ends, or the service stays away for a minute.
func (c *client) follow(ctx context.Context, number int, fresh func(api.Run) (stop bool), f func(api.Event) (stop bool)) error {
	var away time.Time
	for {
		stop, err := c.followOnce(ctx, number, fresh, f)
		if stop || ctx.Err() != nil {
			return ctx.Err()
		}
		if e, ok := errors.AsType[*apiError](err); ok && e.Status < 500 {
			return err
		}
		if err == nil {
			away = time.Time{}
		} else if away.IsZero() {
			away = time.Now()
		} else if time.Since(away) > time.Minute {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (c *client) followOnce(ctx context.Context, number int, fresh func(api.Run) bool, f func(api.Event) bool) (stop bool, err error) {
	resp, err := c.do(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/events", number), nil)
	if err != nil {
		return false, err
	}
	defer resp.Body.Close()
	var run api.Run
	if err := c.get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
		return false, err
	}
	if fresh(run) {
		return true, nil
	}
	in := bufio.NewScanner(resp.Body)
	in.Buffer(nil, 16<<20)
	for in.Scan() {
		data, ok := strings.CutPrefix(in.Text(), "data: ")
		if !ok {
			continue
		}
		var e api.Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return false, fmt.Errorf("event: %w", err)
		}
		if e.Whole {
			var now api.Run
			if err := c.get(ctx, fmt.Sprintf("/runs/%d", number), &now); err != nil {
				return false, err
			}
			if fresh(now) {
				return true, nil
			}
		}
		if f(e) {
			return true, nil
		}
	}
	return false, nil
}

// known remembers, for each service started on this machine by this user, the
// data directory in which its first tokens lie.
type known map[string]string

func knownFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "parallel-pane", "services.json"), nil
}

func readKnown() known {
	k := known{}
	if file, err := knownFile(); err == nil {
		if raw, err := os.ReadFile(file); err == nil {
			_ = json.Unmarshal(raw, &k) // a file that cannot be read is as good as none
		}
	}
	return k
}

// remember notes where a service keeps its data.
func remember(base, dir string) error {
	file, err := knownFile()
	if err != nil {
		return err
	}
	k := readKnown()
	k[base] = dir
	raw, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	tmp := fmt.Sprintf("%s.%d", file, os.Getpid())
	if err := os.WriteFile(tmp, append(raw, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, file)
}

// findToken looks for a token: PANE_TOKEN, the file named by --token-file or
// PANE_TOKEN_FILE, or the first token of a service of this machine. Tokens are
// never arguments, which anybody on the machine could read.
func findToken(base, file, first string) (string, error) {
	if t := os.Getenv("PANE_TOKEN"); t != "" {
		return t, nil
	}
	if file == "" {
		file = os.Getenv("PANE_TOKEN_FILE")
	}
	if file == "" {
		if dir, ok := readKnown()[base]; ok {
			file = filepath.Join(dir, first)
		}
	}
	if file == "" {
		return "", usage("no token for %s: set PANE_TOKEN, or name a file that holds one with --token-file", base)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", usage("token file: %v", err)
	}
	return strings.TrimSpace(string(raw)), nil
}

// cleanBase makes an address of what a person types.
func cleanBase(s string) (string, error) {
	if !strings.Contains(s, "://") {
		s = "http://" + s
	}
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return "", usage("%q is not the address of a service: expected one such as http://127.0.0.1:7420", s)
	}
	return strings.TrimRight(s, "/"), nil
}
