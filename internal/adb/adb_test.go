package adb

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// saying is a server that answers each connection with the same bytes, and hangs up
// unless it stays silent after them.
func saying(t *testing.T, answer string, hangs bool) (Server, <-chan string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	asked := make(chan string, 100)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				first, err := ReadText(c)
				if err != nil {
					return
				}
				asked <- first
				_, _ = io.WriteString(c, answer)
				if !hangs {
					_ = c.(*net.TCPConn).CloseWrite()
				}
				if next, err := ReadText(c); err == nil {
					asked <- next
				}
				if hangs {
					_, _ = io.Copy(io.Discard, c)
				}
			}()
		}
	}()
	return Server(l.Addr().String()), asked
}

func TestListOfPhones(t *testing.T) {
	s, asked := saying(t, "OKAY009eR5CT70     device usb:1-2 product:q7 model:Quay_7 device:q7 transport_id:3\n"+
		"emulator-5554          offline transport_id:4\n\nbroken\nHX1 unauthorized usb:1-3 transport_id:5\n", false)
	all, err := s.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "host:devices-l", <-asked)
	assert.Equal(t, []Device{{"R5CT70", Ready, "Quay_7"}, {"emulator-5554", "offline", ""}, {"HX1", "unauthorized", ""}}, all)
}

// Whatever a server that is none answers is an error with what was asked.
func TestServersInTrouble(t *testing.T) {
	for answer, says := range map[string]string{
		"":                             "the server hung up",
		"HTTP/1.1 400 Bad Request\r\n": "expected OKAY or FAIL, found \"HTTP\": this is no adb server",
		"FAIL000cmust be fed":          "unexpected EOF",
		"FAIL000bmust be fed":          "adb: host:version: must be fed",
		"OKAYzzzz":                     "expected a length of four hexadecimal digits",
		"OKAY00041234":                 "",
		"OKAY0004tide":                 `expected a number, found "tide"`,
		"OKAY0004":                     "EOF",
	} {
		s, _ := saying(t, answer, false)
		n, err := s.Version(t.Context())
		if says == "" {
			require.NoError(t, err)
			assert.Equal(t, 0x1234, n)
			continue
		}
		require.ErrorContains(t, err, says, answer)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l.Close()
	_, err = Server(l.Addr().String()).Devices(t.Context())
	require.ErrorIs(t, err, ErrNoServer)

	silent, _ := saying(t, "", true)
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	_, err = silent.Devices(ctx)
	require.ErrorIs(t, err, context.Canceled)
	ctx, cancel = context.WithCancel(t.Context())
	times := 0
	tracked, _ := saying(t, "OKAY0000", true)
	err = tracked.Track(ctx, func(all []Device) {
		assert.Empty(t, all)
		times++
		cancel()
	})
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 1, times)
}

func TestWhatAShellSays(t *testing.T) {
	for answer, c := range map[string]struct{ out, says string }{
		"OKAYOKAYPhysical size: 1x2\r\n0\r\n": {out: "Physical size: 1x2"},
		"OKAYOKAY0\n":                         {},
		"OKAYOKAYno such file\n1\n":           {out: "no such file", says: "status 1: no such file"},
		"OKAYOKAYhalf of what":                {says: "the phone hung up after 12 bytes"},
		"OKAYFAIL0006closed":                  {says: "shell:wm size"},
		"FAIL0009not found":                   {says: "not found"},
	} {
		s, _ := saying(t, answer, false)
		out, err := s.Shell(t.Context(), "R5", "wm", "size")
		assert.Equal(t, c.out, out, answer)
		if c.says == "" {
			require.NoError(t, err, answer)
		} else {
			require.ErrorContains(t, err, c.says, answer)
		}
	}
	s, asked := saying(t, "OKAY", false)
	_, err := s.Shell(t.Context(), "R5", "rm", "-rf", "a b", "it's", "$(reboot)", "")
	require.Error(t, err)
	assert.Equal(t, "host:transport:R5", <-asked)
	assert.Equal(t, `shell:rm -rf 'a b' 'it'\''s' '$(reboot)' ''; echo "$?"`, <-asked)
}

func TestReverse(t *testing.T) {
	s, asked := saying(t, "OKAYOKAYOKAY00045001", false)
	port, err := s.Reverse(t.Context(), "R5", 80)
	require.NoError(t, err)
	assert.Equal(t, 5001, port)
	<-asked
	assert.Equal(t, "reverse:forward:tcp:0;tcp:80", <-asked)
	for _, answer := range []string{"OKAYOKAYOKAY00010", "OKAYOKAYOKAY0005x5001", "OKAYOKAYFAIL0004busy"} {
		s, _ = saying(t, answer, false)
		_, err = s.Reverse(t.Context(), "R5", 80)
		require.Error(t, err, answer)
	}
}

func TestPush(t *testing.T) {
	s, _ := saying(t, "OKAYOKAYOKAY\x00\x00\x00\x00", true)
	require.NoError(t, s.Push(t.Context(), "R5", "/data/x", bytes.NewReader(make([]byte, 200_000))))
	s, _ = saying(t, "OKAYOKAYFAIL\x04\x00\x00\x00full", true)
	require.ErrorContains(t, s.Push(t.Context(), "R5", "/data/x", strings.NewReader("x")), "write /data/x on the phone: FAIL: full")
	broken := io.MultiReader(strings.NewReader("x"), failing{})
	s, _ = saying(t, "OKAYOKAY", true)
	require.ErrorContains(t, s.Push(t.Context(), "R5", "/data/x", broken), "the disk is gone")
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("the disk is gone") }

// What one side writes the other reads, whatever it is; what is no message is an error.
func FuzzMessages(f *testing.F) {
	f.Add([]byte("000chost:version"))
	f.Add([]byte("SEND\x03\x00\x00\x00a,1DATA\x00\x00\x00\x00DONE\x01\x02\x03\x04QUIT\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if text, err := ReadText(bytes.NewReader(b)); err == nil {
			var out bytes.Buffer
			if len(text) < maxRequest {
				require.NoError(t, WriteText(&out, text))
				assert.Equal(t, fmt.Sprintf("%04x%s", len(text), text), out.String())
			}
		}
		in, out := bytes.NewReader(b), &bytes.Buffer{}
		for {
			id, body, err := ReadSync(in, 1<<10)
			if err != nil {
				break
			}
			require.NoError(t, WriteSync(out, id, body))
		}
		assert.True(t, bytes.HasPrefix(b, out.Bytes()))
		for _, d := range parseDevices(string(b)) {
			assert.NotEmpty(t, d.Serial)
		}
	})
}
