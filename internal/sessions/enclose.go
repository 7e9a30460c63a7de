package sessions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/fasthttp/websocket"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/engine/process"
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
		b, err := box.Enclose(ctx, box.Needs{Dir: s.home(), Limits: box.Usual, Programs: programs(s.Browser)})
		if err != nil {
			return err
		}
		s.box = b
	}
	return h.leadOut(s, o)
}

// leadOut opens the session's door.
func (h *Host) leadOut(s *Session, o *engine.Options) error {
	rules := h.Rules
	rules.Shape, rules.Relay = s.shape, s.relay
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

// Room is a place for programs that open sessions: a sandbox where there can be one, with
// a way out such as sessions have.
type Room struct {
	box.Box
	Proxy string // address of the way out, as programs in the room see it
	dir   string
	door  *door.Door
}

// Room makes a room in a directory, which is empty. Its way out leads through a relay to
// the places of that, unless it is nil; besides the
// system's programs there are those that are named. Close it at the end.
func (h *Host) Room(ctx context.Context, dir string, limits box.Limits, relay *door.Relay, programs ...string) (*Room, error) {
	r := &Room{Box: box.Open{Dir: dir}, dir: dir}
	if h.Isolated() == nil {
		b, err := box.Enclose(ctx, box.Needs{Dir: dir, Limits: limits, Programs: programs})
		if err != nil {
			return nil, err
		}
		r.Box = b
	}
	l, err := r.Listen()
	if err != nil {
		r.Box.Close()
		return nil, err
	}
	rules := h.Rules
	rules.Relay = relay
	if rules.Through == nil {
		rules.Through = environment
	}
	r.door, r.Proxy = door.Open(l, rules), l.Addr().String()
	return r, nil
}

// Dir is the directory that the room was made in.
func (r *Room) Dir() string { return r.dir }

// Reach tries to get to a site as the programs of the room do.
func (r *Room) Reach(ctx context.Context, address string) error { return r.door.Reach(ctx, address) }

// End ends every program in the room, those that left their group as well.
func (r *Room) End() {
	if r.Box.Close(); !r.Isolated() {
		process.Sweep(r.dir)
	}
}

// Close is End, and shuts the way out.
func (r *Room) Close() {
	r.End()
	r.door.Close()
}

// programs are those of this machine that a session on a browser starts.
func programs(b fleet.Browser) []string {
	if b.From == fleet.Phone {
		return []string{b.Driver}
	}
	return []string{b.Path, b.Driver}
}

// Give puts a copy of a file into the session's directory, and says what the
// browser calls it.
func (s *Session) Give(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return s.give(filepath.Base(file), f)
}

// GiveBytes is Give of what is not in a file.
func (s *Session) GiveBytes(name string, content []byte) (string, error) {
	return s.give(name, bytes.NewReader(content))
}

// giveLimit is how long a file may take to a browser that is not on this machine.
const giveLimit = time.Minute

func (s *Session) give(name string, content io.Reader) (string, error) {
	if s.inst.Give == nil {
		return s.box.Give(name, content)
	}
	ctx, cancel := context.WithTimeout(context.Background(), giveLimit)
	defer cancel()
	return s.inst.Give(ctx, name, content)
}

// Shape holds the session's way to every site to another shape until it is Reset.
func (s *Session) Shape(shape traffic.Shape) error {
	if s.door == nil {
		return errors.New("a stand-in reaches the site by itself: its network cannot be changed")
	}
	s.reshaped = true
	s.door.Shape(shape)
	return nil
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
