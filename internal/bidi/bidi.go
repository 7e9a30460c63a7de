// Package bidi is a client for W3C WebDriver BiDi: one connection, commands
// with answers, and events. It knows nothing of engines or recordings.
package bidi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/fasthttp/websocket"
)

// Error is an error response, section 3.4 "Errors".
type Error struct {
	Code    string `json:"error"`
	Message string `json:"message"`
}

func (e *Error) Error() string { return e.Code + ": " + e.Message }

// Event is one event message.
type Event struct {
	Method string          `json:"method"`
	Params json.RawMessage `json:"params"`
}

// Conn is an open connection. One goroutine reads it and ends with it.
type Conn struct {
	ws      *websocket.Conn
	writeMu sync.Mutex

	mu       sync.Mutex
	next     int64
	waiting  map[int64]chan message
	handlers map[string][]*handler
	err      error
	done     chan struct{}
}

type handler struct{ call func(Event) }

type message struct {
	ID      *int64          `json:"id"`
	Type    string          `json:"type"`
	Result  json.RawMessage `json:"result"`
	Code    string          `json:"error"`
	Message string          `json:"message"`
	Event
}

const maxMessageBytes = 64 << 20

// Dial connects to a session's webSocketUrl, by dial; nil connects from here.
func Dial(ctx context.Context, address string, dial func(ctx context.Context, network, address string) (net.Conn, error)) (*Conn, error) {
	d := websocket.Dialer{HandshakeTimeout: 10 * time.Second, NetDialContext: dial}
	ws, _, err := d.DialContext(ctx, address, nil)
	if err != nil {
		return nil, fmt.Errorf("connect BiDi: %w", err)
	}
	ws.SetReadLimit(maxMessageBytes)
	c := &Conn{ws: ws, waiting: map[int64]chan message{}, handlers: map[string][]*handler{}, done: make(chan struct{})}
	go c.read()
	return c, nil
}

func (c *Conn) read() {
	defer close(c.done)
	for {
		_, raw, err := c.ws.ReadMessage()
		if err != nil {
			c.fail(err)
			return
		}
		var m message
		if err := json.Unmarshal(raw, &m); err != nil {
			c.fail(fmt.Errorf("BiDi message %.80q: %w", raw, err))
			return
		}
		if m.ID == nil {
			c.mu.Lock()
			handlers := c.handlers[m.Method]
			c.mu.Unlock()
			for _, h := range handlers {
				h.call(m.Event)
			}
			continue
		}
		c.mu.Lock()
		ch := c.waiting[*m.ID]
		delete(c.waiting, *m.ID)
		c.mu.Unlock()
		if ch != nil {
			ch <- m
		}
	}
}

func (c *Conn) fail(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err == nil {
		c.err = err
	}
	for id, ch := range c.waiting {
		delete(c.waiting, id)
		close(ch)
	}
}

// Send issues a command and decodes its result into out, which may be nil.
func (c *Conn) Send(ctx context.Context, method string, params, out any) error {
	if params == nil {
		params = struct{}{}
	}
	ch := make(chan message, 1)
	c.mu.Lock()
	if c.err != nil {
		defer c.mu.Unlock()
		return fmt.Errorf("%s: %w", method, c.err)
	}
	c.next++
	id := c.next
	c.waiting[id] = ch
	c.mu.Unlock()

	c.writeMu.Lock()
	err := c.ws.WriteJSON(map[string]any{"id": id, "method": method, "params": params})
	c.writeMu.Unlock()
	if err != nil {
		c.fail(err)
	}
	select {
	case m, ok := <-ch:
		switch {
		case !ok:
			return fmt.Errorf("%s: connection lost", method)
		case m.Type == "error" || m.Code != "":
			return fmt.Errorf("%s: %w", method, &Error{m.Code, m.Message})
		case out == nil:
			return nil
		}
		return json.Unmarshal(m.Result, out)
	case <-ctx.Done():
		c.mu.Lock()
		delete(c.waiting, id)
		c.mu.Unlock()
		return fmt.Errorf("%s: %w", method, ctx.Err())
	}
}

// On calls h for each event of a method, in order, on the reading goroutine.
// Register before subscribing. off ends it; a call may still be under way then.
func (c *Conn) On(method string, call func(Event)) (off func()) {
	h := &handler{call}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.handlers[method] = append(slices.Clone(c.handlers[method]), h)
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.handlers[method] = slices.DeleteFunc(slices.Clone(c.handlers[method]), func(o *handler) bool { return o == h })
	}
}

// Subscribe asks for events of the named modules or methods.
func (c *Conn) Subscribe(ctx context.Context, events ...string) error {
	return c.Send(ctx, "session.subscribe", map[string]any{"events": events}, nil)
}

// Unsubscribe ends what Subscribe began.
func (c *Conn) Unsubscribe(ctx context.Context, events ...string) error {
	return c.Send(ctx, "session.unsubscribe", map[string]any{"events": events}, nil)
}

// TopContexts are the ids of the top-level browsing contexts.
func (c *Conn) TopContexts(ctx context.Context) ([]string, error) {
	var tree struct {
		Contexts []struct {
			Context string `json:"context"`
		} `json:"contexts"`
	}
	if err := c.Send(ctx, "browsingContext.getTree", map[string]any{"maxDepth": 0}, &tree); err != nil {
		return nil, err
	}
	ids := make([]string, len(tree.Contexts))
	for i, t := range tree.Contexts {
		ids[i] = t.Context
	}
	return ids, nil
}

// Close ends the connection and waits for its goroutine.
func (c *Conn) Close() error {
	err := c.ws.Close()
	<-c.done
	return err
}

// Unsupported reports whether an error says that the other side does not have a
// command.
func Unsupported(err error) bool {
	e, ok := errors.AsType[*Error](err)
	return ok && (e.Code == "unknown command" || e.Code == "unsupported operation")
}
