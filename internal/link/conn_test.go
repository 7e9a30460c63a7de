package link

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// ends are both ends of a link's connection, below yamux.
func ends(t *testing.T) (one, other net.Conn, raw *websocket.Conn) {
	t.Helper()
	accepted := make(chan *websocket.Conn, 1)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ws, err := (&websocket.Upgrader{}).Upgrade(w, r, nil)
		if err == nil {
			accepted <- ws
		}
	})}
	go func() { _ = srv.Serve(l) }()
	t.Cleanup(func() { _ = srv.Close() })
	ws, _, err := websocket.DefaultDialer.Dial("ws://"+l.Addr().String(), nil)
	require.NoError(t, err)
	one, other = newConn(ws), newConn(<-accepted)
	t.Cleanup(func() { one.Close(); other.Close() })
	return one, other, ws
}

// frame is a header of yamux for a body of a length; type 0 carries data.
func frame(kind byte, length uint32) []byte {
	h := make([]byte, headerSize)
	h[1] = kind
	binary.BigEndian.PutUint32(h[8:], length)
	return h
}

// However frames are written and read, the bytes that arrive are those that were
// sent.
func TestFramesArriveAsTheyWere(t *testing.T) {
	one, other, _ := ends(t)
	rapid.Check(t, func(t *rapid.T) {
		var sent bytes.Buffer
		write := func(b []byte) {
			n, err := one.Write(b)
			require.NoError(t, err)
			require.Len(t, b, n)
			sent.Write(b)
		}
		for range rapid.IntRange(1, 8).Draw(t, "frames") {
			if rapid.Bool().Draw(t, "data") {
				body := rapid.SliceOfN(rapid.Byte(), 1, 2000).Draw(t, "body")
				if rapid.Bool().Draw(t, "large") {
					body = bytes.Repeat(body, 100)
				}
				write(frame(0, uint32(len(body))))
				write(body)
			} else { // a window's update, a ping: a header alone, whose length means something else
				write(frame(rapid.ByteRange(1, 3).Draw(t, "kind"), rapid.Uint32().Draw(t, "value")))
			}
		}
		require.NoError(t, other.SetDeadline(time.Now().Add(10*time.Second)))
		got := make([]byte, 0, sent.Len())
		for len(got) < sent.Len() {
			buf := make([]byte, rapid.IntRange(1, 4000).Draw(t, "read"))
			n, err := other.Read(buf[:min(len(buf), sent.Len()-len(got))])
			require.NoError(t, err)
			got = append(got, buf[:n]...)
		}
		require.Equal(t, sent.Bytes(), got)
	})
}

func TestAnEmptyDataFrameIsNotHeldBack(t *testing.T) {
	one, other, _ := ends(t)
	_, err := one.Write(frame(0, 0))
	require.NoError(t, err)
	got := make([]byte, headerSize)
	_, err = io.ReadFull(other, got)
	require.NoError(t, err)
	assert.Equal(t, frame(0, 0), got)
}

func TestWhatALinkDoesNotCarry(t *testing.T) {
	_, other, raw := ends(t)
	require.NoError(t, raw.WriteMessage(websocket.TextMessage, []byte("ahoy")))
	_, err := other.Read(make([]byte, 10))
	assert.ErrorContains(t, err, "message of kind 1")
}

func TestALinkThatIsClosedInOrderHasAnEnd(t *testing.T) {
	_, other, raw := ends(t)
	require.NoError(t, raw.WriteMessage(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, "")))
	_, err := other.Read(make([]byte, 10))
	assert.ErrorIs(t, err, io.EOF)
	assert.NotEmpty(t, other.RemoteAddr().String(), "who it was is known afterwards too")
}

func TestReasonsOfRefusals(t *testing.T) {
	for body, want := range map[string]string{
		`{"detail":"another agent named quay is online"}`: "another agent named quay is online", `{"title":"x"}`: "the service answered " +
			"with status 409", `<html>`: "the service answered with status 409", ``: "the service answered with status 409",
	} {
		assert.Equal(t, want, reasonOf(409, []byte(body)), body)
	}
}
