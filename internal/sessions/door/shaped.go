package door

import (
	"context"
	"net"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"parallelpane/internal/core/traffic"
)

// line is what a door's connections are held to, until another takes its place.
type line struct {
	*shaper                 // nil where nothing is shaped
	off     bool            // nothing gets through
	cut     context.Context // ends with the line, and with it its connections
	end     context.CancelFunc
}

func newLine(s traffic.Shape) *line {
	l := &line{shaper: newShaper(s), off: s.Off}
	l.cut, l.end = context.WithCancel(context.Background())
	return l
}

// take holds a connection that was just made to the line.
func (l *line) take(ctx context.Context, c net.Conn) (net.Conn, error) {
	context.AfterFunc(l.cut, func() { _ = c.Close() })
	if l.shaper == nil {
		return c, nil
	}
	return l.shape(ctx, c)
}

// Shape holds what passes to another shape from now on. Connections that are open are cut,
// as those of a phone are that changes its network.
func (d *Door) Shape(s traffic.Shape) {
	d.line.Swap(newLine(s)).end()
	d.plain.CloseIdleConnections()
}

// shaper holds all connections of a door to one shape together, as a slow line would.
type shaper struct {
	down, up *rate.Limiter // of bytes; nil for no bound
	delay    time.Duration
}

// chunk is how many bytes pass at once.
const chunk = 16 << 10

// newShaper returns nil where nothing is shaped.
func newShaper(s traffic.Shape) *shaper {
	if s.Down == 0 && s.Up == 0 && s.Delay == 0 {
		return nil
	}
	limiter := func(kbit int) *rate.Limiter {
		if kbit == 0 {
			return nil
		}
		return rate.NewLimiter(rate.Limit(kbit)*1000/8, chunk)
	}
	return &shaper{limiter(s.Down), limiter(s.Up), s.Delay}
}

// shape holds a connection that was just made to the shape; making it took a way there
// and back as well.
func (s *shaper) shape(ctx context.Context, c net.Conn) (net.Conn, error) {
	select {
	case <-time.After(s.delay):
	case <-ctx.Done():
		c.Close()
		return nil, ctx.Err()
	}
	life, end := context.WithCancel(context.Background())
	return &shapedConn{Conn: c, s: s, life: life, end: end}, nil
}

// shapedConn is a connection over a slow line. What answers something comes no sooner
// than a way there and back after it was sent.
type shapedConn struct {
	net.Conn
	s    *shaper
	life context.Context // ends with the connection, so that nothing waits for a line that is closed
	end  context.CancelFunc

	mu   sync.Mutex
	sent time.Time // of what has not been answered yet; zero when nothing is
}

func (c *shapedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p[:min(len(p), chunk)])
	if n == 0 {
		return n, err
	}
	c.mu.Lock()
	wait := time.Duration(0)
	if !c.sent.IsZero() {
		wait = time.Until(c.sent.Add(c.s.delay))
		c.sent = time.Time{}
	}
	c.mu.Unlock()
	if wait > 0 {
		select {
		case <-time.After(wait):
		case <-c.life.Done():
			return n, err
		}
	}
	if c.s.down != nil {
		_ = c.s.down.WaitN(c.life, n) // a connection that is closed waits no longer
	}
	return n, err
}

func (c *shapedConn) Write(p []byte) (done int, err error) {
	for len(p) > 0 {
		part := p[:min(len(p), chunk)]
		if c.s.up != nil {
			if err := c.s.up.WaitN(c.life, len(part)); err != nil {
				return done, net.ErrClosed
			}
		}
		c.mu.Lock()
		c.sent = time.Now() // before the answer can be there
		c.mu.Unlock()
		n, err := c.Conn.Write(part)
		if done += n; err != nil {
			return done, err
		}
		p = p[n:]
	}
	return done, nil
}

func (c *shapedConn) Close() error {
	c.end()
	return c.Conn.Close()
}

// CloseWrite ends one way, where the connection can.
func (c *shapedConn) CloseWrite() error {
	if h, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return h.CloseWrite()
	}
	return nil
}
