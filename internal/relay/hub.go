package relay

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/place"
)

// Times that a relay whose connection is lost has: for its owner to come back, and for
// which a connection through it waits for that.
const (
	Patience = 30 * time.Second
	waiting  = 10 * time.Second
)

// maxRelays bounds the relays that are open at once.
const maxRelays = 1000

// Link is the connection to an owner. Streams speak HTTP to it.
type Link interface {
	Stream() (net.Conn, error)
	Done() <-chan struct{}
	Close() error
}

// Hub is the service's end of every relay.
type Hub struct {
	now func() time.Time

	mu    sync.Mutex
	open  map[key]*way
	ended map[key]ending // of late, by hand
}

// ending is how a relay was ended by hand.
type ending struct {
	by string
	at time.Time
}

// key is how runs name a relay.
type key struct{ project, name string }

// way is an open relay. The hub's mutex guards it.
type way struct {
	api.Relay
	owner  string // the token that opened it
	places []place.Place
	link   Link          // nil while its owner is away
	back   chan struct{} // closed when the owner is back, or will not come
	until  time.Time     // for which it is waited
	conns  map[*passing]struct{}
}

// passing is a connection through a relay.
type passing struct {
	net.Conn
	may func() bool // whether the work that it is for still goes on
}

// NewHub returns one without relays.
func NewHub(now func() time.Time) *Hub {
	return &Hub{now: now, open: map[key]*way{}, ended: map[key]ending{}}
}

// Admit has a relay open whose owner is about to connect: from now on it may be named,
// and whoever dials waits for Hold.
func (h *Hub) Admit(who api.Who, q api.RelayRequest) ([]place.Place, error) {
	places, err := place.All(q.Places)
	switch {
	case err != nil:
		return nil, api.Errorf(api.Invalid, "places: %v", err)
	case len(places) == 0:
		return nil, api.Errorf(api.Invalid, "places: name what may be reached, such as localhost:8080")
	case len(places) > 100:
		return nil, api.Errorf(api.Invalid, "places: expected at most 100, found %d", len(places))
	case !fleet.IsName(q.Name):
		return nil, api.Errorf(api.Invalid, "name: expected letters, digits, '.', '-' and '_', at most 64, found %.80q", q.Name)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	w := h.open[key{q.Project, q.Name}]
	if e, there := h.ended[key{q.Project, q.Name}]; there && q.Again {
		return nil, api.Errorf(api.Conflict, "relay %s of project %s was ended by %s", q.Name, q.Project, e.by)
	}
	if w != nil && w.owner != who.TokenID {
		return nil, api.Errorf(api.Conflict, "relay %s of project %s is %s's: choose another name", q.Name, q.Project, w.By)
	}
	if w == nil && len(h.open) >= maxRelays {
		return nil, api.Errorf(api.TooMany, "%d relays are open, which is as many as may be", maxRelays)
	}
	if w == nil {
		delete(h.ended, key{q.Project, q.Name})
		h.open[key{q.Project, q.Name}] = &way{owner: who.TokenID, conns: map[*passing]struct{}{}, back: make(chan struct{}), places: places,
			until: h.now().Add(Patience),
			Relay: api.Relay{Project: q.Project, Name: q.Name, By: who.Person(), OpenedAt: h.now(), Places: q.Places}}
	}
	return places, nil
}

// Hold keeps an admitted relay open as long as its link is, and a while longer, for its
// owner to come back. It returns when the link is closed, which it does itself to one
// whose relay has been ended meanwhile.
func (h *Hub) Hold(who api.Who, q api.RelayRequest, places []place.Place, l Link) {
	k := key{q.Project, q.Name}
	h.mu.Lock()
	w := h.open[k]
	if w == nil || w.owner != who.TokenID {
		h.mu.Unlock()
		l.Close()
		return
	}
	before := w.link
	w.link, w.places, w.Relay.Places = l, places, q.Places
	if before == nil {
		close(w.back)
	}
	h.mu.Unlock()
	if before != nil { // its loss has not been seen yet
		before.Close()
	}
	<-l.Done()
	h.mu.Lock()
	defer h.mu.Unlock()
	if w.link == l {
		w.link, w.back, w.until = nil, make(chan struct{}), h.now().Add(Patience)
	}
}

// Mind ends relays whose owners do not come back, and connections whose work is over,
// until stop is closed.
func (h *Hub) Mind(stop <-chan struct{}) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-stop:
			return
		case <-t.C:
			h.look()
		}
	}
}

func (h *Hub) look() {
	h.mu.Lock()
	var over []*passing
	for k, w := range h.open {
		if w.link == nil && h.now().After(w.until) {
			delete(h.open, k)
			close(w.back)
		}
		for c := range w.conns {
			if c.Conn != nil {
				over = append(over, c)
			}
		}
	}
	for k, e := range h.ended {
		if h.now().Sub(e.at) > 10*Patience {
			delete(h.ended, k)
		}
	}
	h.mu.Unlock()
	for _, c := range over {
		if !c.may() {
			c.Close()
		}
	}
}

// End closes a relay; its owner or an admin of the project asks.
func (h *Hub) End(who api.Who, project, name string) error {
	h.mu.Lock()
	k := key{project, name}
	w := h.open[k]
	if w == nil {
		h.mu.Unlock()
		return api.Errorf(api.NotFound, "there is no relay %s open in project %s", name, project)
	}
	if w.owner != who.TokenID && !who.May(api.Admin, project) {
		h.mu.Unlock()
		return api.Errorf(api.Forbidden, "relay %s is %s's: they or an admin of the project may end it", name, w.By)
	}
	delete(h.open, k)
	h.ended[k] = ending{who.Person(), h.now()}
	l := w.link
	if w.link = nil; l == nil {
		close(w.back)
	}
	h.mu.Unlock()
	if l != nil {
		return l.Close()
	}
	return nil
}

// Relays lists those that are open, by project and name.
func (h *Hub) Relays() []api.Relay {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := []api.Relay{}
	for _, w := range h.open {
		r := w.Relay
		r.Places, r.Open, r.Away = slices.Clone(r.Places), len(w.conns), w.link == nil
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b api.Relay) int {
		return strings.Compare(a.Project+"\n"+a.Name, b.Project+"\n"+b.Name)
	})
	return out
}

// Places are where a relay leads to. The error says that there is none.
func (h *Hub) Places(project, name string) ([]string, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	w := h.open[key{project, name}]
	if w == nil {
		return nil, Gone(project, name)
	}
	return slices.Clone(w.Relay.Places), nil
}

// Gone is the error of whoever names a relay that is not open.
func Gone(project, name string) error {
	return api.Errorf(api.Conflict, "there is no relay %s open in project %s: open it where the application runs, "+
		"with pane relay --name %s HOST:PORT", name, project, name)
}

// Dial connects to a place through a relay, for as long as may says so.
func (h *Hub) Dial(ctx context.Context, project, name, to string, may func() bool) (*Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, waiting)
	defer cancel()
	k := key{project, name}
	for {
		h.mu.Lock()
		w := h.open[k]
		if w == nil {
			h.mu.Unlock()
			return nil, Gone(project, name)
		}
		if !place.Holds(w.places, to) {
			w.Refused++
			h.mu.Unlock()
			return nil, api.Errorf(api.Forbidden, "%s is not on the list of relay %s: %s", to, name, strings.Join(w.Relay.Places, ", "))
		}
		if len(w.conns) >= MaxOpen {
			h.mu.Unlock()
			return nil, api.Errorf(api.TooMany, "%d connections are open through relay %s, which is as many as may be", MaxOpen, name)
		}
		l, back := w.link, w.back
		if l != nil {
			c := &passing{may: may}
			w.conns[c] = struct{}{} // its place is taken while it is made
			now := h.now()
			w.Connections++
			w.LastTo, w.LastAt = to, &now
			h.mu.Unlock()
			conn, err := connect(ctx, l, to)
			h.mu.Lock()
			if c.Conn = conn; err == nil && h.open[k] == w {
				h.mu.Unlock()
				return &Conn{h: h, w: w, c: c}, nil
			}
			delete(w.conns, c)
			select {
			case <-l.Done(): // it went in the middle: once more, when it is back
				h.mu.Unlock()
				if ctx.Err() == nil {
					continue
				}
				err = errors.New("its owner's connection was lost")
				h.mu.Lock()
			default:
			}
			w.Trouble = fmt.Sprintf("%v", err)
			h.mu.Unlock()
			if conn != nil {
				conn.Close()
			}
			return nil, api.Errorf(api.Beyond, "relay %s: %v", name, err)
		}
		h.mu.Unlock()
		select {
		case <-back:
		case <-ctx.Done():
			return nil, api.Errorf(api.Beyond, "relay %s: its owner %s has lost the connection to the service", name, w.By)
		}
	}
}

// connect asks the owner for a connection.
func connect(ctx context.Context, l Link, to string) (net.Conn, error) {
	conn, err := l.Stream()
	if err != nil {
		return nil, err
	}
	if end, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(end)
	}
	fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", to, to)
	r := bufio.NewReader(conn)
	resp, err := http.ReadResponse(r, &http.Request{Method: http.MethodConnect})
	if err == nil && resp.StatusCode != http.StatusOK {
		said, _ := io.ReadAll(io.LimitReader(resp.Body, 4<<10))
		err = errors.New(strings.TrimSpace(string(said)))
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	early, _ := r.Peek(r.Buffered())
	return &begun{Conn: conn, early: early}, conn.SetDeadline(time.Time{})
}

// begun is a connection of which some bytes have been read already. Its Close in one
// direction is that of the stream, which leaves the other open.
type begun struct {
	net.Conn
	early []byte
}

func (b *begun) Read(p []byte) (int, error) {
	if len(b.early) > 0 {
		n := copy(p, b.early)
		b.early = b.early[n:]
		return n, nil
	}
	return b.Conn.Read(p)
}

func (b *begun) CloseWrite() error { return b.Conn.Close() }

// Conn is a connection through a relay, until Join or Close.
type Conn struct {
	h *Hub
	w *way
	c *passing
}

// Join carries what passes between it and another connection, and closes both.
func (c *Conn) Join(other net.Conn) {
	defer c.Close()
	count := func(n *int64) func(int) {
		return func(more int) {
			c.h.mu.Lock()
			*n += int64(more)
			c.h.mu.Unlock()
		}
	}
	join(other, c.c, count(&c.w.Out), count(&c.w.In))
}

// Close gives its place back.
func (c *Conn) Close() error {
	c.h.mu.Lock()
	delete(c.w.conns, c.c)
	c.h.mu.Unlock()
	return c.c.Close()
}

// CloseWrite says that no more comes.
func (p *passing) CloseWrite() error {
	if w, ok := p.Conn.(interface{ CloseWrite() error }); ok {
		return w.CloseWrite()
	}
	return errors.ErrUnsupported
}

// Close ends the connection; there may be none yet.
func (p *passing) Close() error {
	if p.Conn == nil {
		return nil
	}
	_ = p.SetDeadline(time.Unix(1, 0)) // a stream that is closed can be read from as long as its other end likes
	return p.Conn.Close()
}
