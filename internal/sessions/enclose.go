package sessions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/fasthttp/websocket"

	"parallelpane/internal/engine"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/sessions/door"
)

// home is the directory of the session's own programs. What lies beside it is the
// agent's.
func (s *Session) home() string { return filepath.Join(s.dir, "home") }

// Isolated says why sessions run beside the agent's own programs; nil when each has
// a sandbox. The first call tries it.
func (h *Host) Isolated() error { return h.trial() }

// try makes a sandbox and takes it away.
func (h *Host) try() error {
	if h.Bare {
		return errors.New("sandboxes are switched off on this agent")
	}
	dir, err := os.MkdirTemp(h.dir, "trial-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	b, err := box.Enclose(ctx, box.Needs{Dir: dir, Limits: box.Usual})
	if err != nil {
		h.log.Warn("sessions run without a sandbox", "error", err)
		return err
	}
	b.Close()
	return nil
}

// enclose gives a session its box, and the door that leads out of it.
func (h *Host) enclose(ctx context.Context, s *Session, o *engine.Options) error {
	if h.Isolated() == nil {
		b, err := box.Enclose(ctx, box.Needs{Dir: s.home(), Limits: box.Usual, Programs: []string{s.Browser.Path, s.Browser.Driver}})
		if err != nil {
			return err
		}
		s.box = b
	}
	rules := h.Rules
	rules.Shape = s.shape
	if rules.Through == nil {
		rules.Through = environment
	}
	if asked, ok := s.asked["proxy"].(map[string]any); ok {
		var err error
		if rules.Through, err = door.Asked(asked, rules.Through); err != nil {
			return &engine.Refused{Why: err.Error()}
		}
	}
	l, err := s.box.Listen()
	if err != nil {
		return err
	}
	s.door = door.Open(l, rules)
	o.Box, o.Door = s.box, fmt.Sprintf("127.0.0.1:%d", l.Addr().(*net.TCPAddr).Port)
	return nil
}

// Give puts a copy of a file into the session's directory, and says what the
// browser calls it.
func (s *Session) Give(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return s.box.Give(filepath.Base(file), f)
}

// GiveBytes is Give of what is not in a file.
func (s *Session) GiveBytes(name string, content []byte) (string, error) {
	return s.box.Give(name, bytes.NewReader(content))
}

// Reach tries to get to a site as the session's browser does.
func (s *Session) Reach(ctx context.Context, address string) error {
	if s.door == nil {
		return door.Try(ctx, http.DefaultTransport, address)
	}
	return s.door.Reach(ctx, address)
}

// DialBiDi connects to the session's own BiDi address once more.
func (s *Session) DialBiDi() (*websocket.Conn, *http.Response, error) {
	d := websocket.Dialer{HandshakeTimeout: 10 * time.Second, NetDialContext: s.inst.Dial}
	return d.Dial(s.WebSocketURL(), nil)
}

// environment is the proxy that the agent's own environment names.
func environment(u *url.URL) (*url.URL, error) {
	return http.ProxyFromEnvironment(&http.Request{URL: u})
}
