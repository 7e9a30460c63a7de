package link

import (
	"encoding/binary"
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
	header        []byte   // of a frame whose body comes with the next write
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

// headerSize is the length of yamux's frame headers: version, type, two bytes
// of flags, four of the stream, four of the length.
const headerSize = 12

// Write sends a message. yamux writes the header of a data frame and its body
// apart; here they travel as one message, which halves the work of both ends.
func (c *conn) Write(b []byte) (int, error) {
	pending := len(c.header) > 0
	if !pending && len(b) == headerSize && b[1] == 0 && binary.BigEndian.Uint32(b[8:]) > 0 {
		c.header = append(c.header, b...)
		return len(b), nil
	}
	out := b
	if pending {
		out = append(c.header, b...)
		if c.header = out[:0]; cap(out) > maxKept {
			c.header = nil
		}
	}
	if err := c.WriteMessage(websocket.BinaryMessage, out); err != nil {
		return 0, err
	}
	return len(b), nil
}

// maxKept bounds the buffer that is kept between writes.
const maxKept = 64 << 10

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
