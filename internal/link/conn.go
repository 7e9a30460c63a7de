package link

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"github.com/fasthttp/websocket"
)

// conn makes a byte stream of a WebSocket's binary messages. yamux has one
// reader and one writer, so neither direction needs a lock.
type conn struct {
	*websocket.Conn
	reader        io.Reader
	local, remote net.Addr // asked for after the connection is gone as well
}

func newConn(ws *websocket.Conn) net.Conn {
	return &conn{Conn: ws, local: ws.LocalAddr(), remote: ws.RemoteAddr()}
}

func (c *conn) LocalAddr() net.Addr  { return c.local }
func (c *conn) RemoteAddr() net.Addr { return c.remote }

func (c *conn) Read(b []byte) (int, error) {
	for {
		if c.reader == nil {
			kind, r, err := c.NextReader()
			if err != nil {
				if websocket.IsCloseError(err, websocket.CloseNormalClosure, websocket.CloseGoingAway) {
					err = io.EOF
				}
				return 0, err
			}
			if kind != websocket.BinaryMessage {
				return 0, fmt.Errorf("link: message of kind %d", kind)
			}
			c.reader = r
		}
		n, err := c.reader.Read(b)
		if errors.Is(err, io.EOF) {
			c.reader, err = nil, nil
			if n == 0 {
				continue
			}
		}
		return n, err
	}
}

func (c *conn) Write(b []byte) (int, error) {
	if err := c.WriteMessage(websocket.BinaryMessage, b); err != nil {
		return 0, err
	}
	return len(b), nil
}

func (c *conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// reasonOf takes the sentence out of a problem answer.
func reasonOf(status int, body []byte) string {
	var p struct {
		Detail string `json:"detail"`
	}
	if json.Unmarshal(body, &p) == nil && p.Detail != "" {
		return p.Detail
	}
	return fmt.Sprintf("the service answered with status %d", status)
}
