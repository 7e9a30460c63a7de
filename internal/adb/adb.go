// Package adb speaks with the server of the Android Debug Bridge over TCP: which phones
// hang on this machine, what their shell says, and streams to their sockets. The
// server's own program is never started.
//
// A request is four hexadecimal digits, its length, and its text; the answer begins with
// OKAY or with FAIL and the reason. These are the services.txt and protocol.txt of the
// bridge's sources.
package adb

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Usual is where the server listens unless it is told otherwise.
const Usual = "127.0.0.1:5037"

// Bounds of what is read.
const (
	maxRequest = 64 << 10 // bytes of a request, an answer or a reason
	maxOutput  = 4 << 20  // bytes that a phone's shell may print
	patience   = 15 * time.Second
)

// Server is the address of a server, as HOST:PORT.
type Server string

// ErrNoServer means that nothing answers at the server's address.
var ErrNoServer = errors.New("no adb server answers")

// Refused is the server's or the phone's refusal.
type Refused struct{ Request, Why string }

func (e *Refused) Error() string { return fmt.Sprintf("adb: %s: %s", e.Request, e.Why) }

// Device is a phone as the server lists it.
type Device struct {
	Serial string
	State  string // Ready, or why it cannot be used: offline, unauthorized …
	Model  string // such as Quay_7; "" where the server does not say
}

// Ready is the state of a phone that takes commands.
const Ready = "device"

// conn is a connection to the server.
type conn struct {
	net.Conn
	r *bufio.Reader
}

func (c *conn) Read(b []byte) (int, error) { return c.r.Read(b) }

// CloseWrite ends what is sent and leaves open what is received.
func (c *conn) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return c.Close()
}

// dial connects; the connection ends with the context.
func (s Server) dial(ctx context.Context) (*conn, error) {
	c, err := (&net.Dialer{Timeout: patience}).DialContext(ctx, "tcp", string(s))
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %w", ErrNoServer, s, err)
	}
	return &conn{c, bufio.NewReader(c)}, nil
}

// ask sends requests one after the other, each of which must be granted.
func (s Server) ask(ctx context.Context, requests ...string) (*conn, error) {
	c, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	for _, r := range requests {
		if err = c.request(r); err != nil {
			_ = c.Close()
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, err
		}
	}
	return c, nil
}

func (c *conn) request(text string) error {
	if err := WriteText(c, text); err != nil {
		return fmt.Errorf("adb: %s: %w", text, err)
	}
	return c.granted(text)
}

// granted reads whether a request is.
func (c *conn) granted(text string) error {
	var status [4]byte
	if _, err := io.ReadFull(c, status[:]); err != nil {
		return fmt.Errorf("adb: %s: the server hung up: %w", text, err)
	}
	switch string(status[:]) {
	case okay:
		return nil
	case fail:
		why, err := ReadText(c)
		if err != nil {
			return fmt.Errorf("adb: %s: %w", text, err)
		}
		return &Refused{text, why}
	}
	return fmt.Errorf("adb: %s: expected OKAY or FAIL, found %q: this is no adb server", text, status[:])
}

// Version is the number of the server's version.
func (s Server) Version(ctx context.Context) (int, error) {
	text, err := s.answer(ctx, "host:version")
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(text, 16, 32)
	if err != nil {
		return 0, fmt.Errorf("adb: host:version: expected a number, found %.20q", text)
	}
	return int(n), nil
}

// answer asks for something that is answered with one text.
func (s Server) answer(ctx context.Context, request string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	c, err := s.ask(ctx, request)
	if err != nil {
		return "", err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })()
	text, err := ReadText(c)
	if err != nil {
		return "", fmt.Errorf("adb: %s: %w", request, errors.Join(ctx.Err(), err))
	}
	return text, nil
}

// Devices lists the phones.
func (s Server) Devices(ctx context.Context) ([]Device, error) {
	text, err := s.answer(ctx, "host:devices-l")
	return parseDevices(text), err
}

// Track calls each with the phones there are, at once and whenever they change, until
// the context ends or the server goes, which is the error.
func (s Server) Track(ctx context.Context, each func([]Device)) error {
	c, err := s.ask(ctx, "host:track-devices-l")
	if refused := (*Refused)(nil); errors.As(err, &refused) { // a server that is older than the long list
		c, err = s.ask(ctx, "host:track-devices")
	}
	if err != nil {
		return err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	for {
		text, err := ReadText(c)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return fmt.Errorf("the adb server at %s has gone: %w", s, err)
		}
		each(parseDevices(text))
	}
}

// parseDevices reads a list of phones, a line each: serial, state, and words such as
// model:Quay_7.
func parseDevices(text string) (out []Device) {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		d := Device{Serial: words[0], State: words[1]}
		for _, w := range words[2:] {
			if model, ok := strings.CutPrefix(w, "model:"); ok {
				d.Model = model
			}
		}
		out = append(out, d)
	}
	return out
}

// Stream opens a service of a phone, such as localabstract:NAME.
func (s Server) Stream(ctx context.Context, serial, service string) (net.Conn, error) {
	c, err := s.ask(ctx, "host:transport:"+serial, service)
	if err != nil {
		return nil, err
	}
	return c, nil
}

// Shell has the phone's shell run a program and gives what it printed; a status other
// than 0 is an error with it.
func (s Server) Shell(ctx context.Context, serial string, args ...string) (string, error) {
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = quote(a)
	}
	command := strings.Join(quoted, " ")
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	c, err := s.ask(ctx, "host:transport:"+serial, "shell:"+command+"; echo \"$?\"")
	if err != nil {
		return "", err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })()
	raw, err := io.ReadAll(io.LimitReader(c, maxOutput))
	if err != nil {
		return "", fmt.Errorf("adb: shell %s: %w", command, err)
	}
	out := strings.TrimRight(strings.ReplaceAll(string(raw), "\r\n", "\n"), "\n")
	said, status := "", out
	if i := strings.LastIndexByte(out, '\n'); i >= 0 {
		said, status = out[:i], out[i+1:]
	}
	switch n, err := strconv.Atoi(status); {
	case err != nil:
		return "", fmt.Errorf("adb: shell %s: the phone hung up after %d bytes", command, len(raw))
	case n != 0:
		return said, &Refused{"shell " + command, fmt.Sprintf("status %d: %.300s", n, said)}
	}
	return said, nil
}

// quote makes one word of a POSIX shell of a text.
func quote(word string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_-./:=,", r)
	}
	if word != "" && !slices.ContainsFunc([]rune(word), func(r rune) bool { return !plain(r) }) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Reverse makes a port of this machine's loopback reachable from the phone's; it answers
// with the port there.
func (s Server) Reverse(ctx context.Context, serial string, to int) (port int, err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	request := fmt.Sprintf("reverse:forward:tcp:0;tcp:%d", to)
	c, err := s.ask(ctx, "host:transport:"+serial, request)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })()
	if err := c.granted(request); err != nil { // the phone's own answer, after the server's
		return 0, err
	}
	text, err := ReadText(c)
	if err != nil {
		return 0, fmt.Errorf("adb: %s: %w", request, err)
	}
	if port, err = strconv.Atoi(text); err != nil || port < 1 || port > 65535 {
		return 0, fmt.Errorf("adb: %s: expected a port, found %.20q", request, text)
	}
	return port, nil
}

// Unreverse takes a port of Reverse back.
func (s Server) Unreverse(ctx context.Context, serial string, port int) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	request := fmt.Sprintf("reverse:killforward:tcp:%d", port)
	c, err := s.ask(ctx, "host:transport:"+serial, request)
	if err != nil {
		return err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })()
	return c.granted(request)
}

// Push writes a file on the phone that every program there can read.
func (s Server) Push(ctx context.Context, serial, path string, content io.Reader) error {
	c, err := s.ask(ctx, "host:transport:"+serial, "sync:")
	if err != nil {
		return err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	if err := push(c, path, content); err != nil {
		return fmt.Errorf("adb: write %s on the phone: %w", path, err)
	}
	return nil
}

func push(c *conn, path string, content io.Reader) error {
	if err := WriteSync(c, "SEND", []byte(path+",33188")); err != nil { // a plain file with the mode 0644
		return err
	}
	chunk := make([]byte, maxRequest)
	for {
		n, err := io.ReadFull(content, chunk)
		if n > 0 {
			if err := WriteSync(c, "DATA", chunk[:n]); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if err := WriteSync(c, "DONE", []byte{0, 0, 0, 0}); err != nil {
		return err
	}
	id, why, err := ReadSync(c, maxRequest)
	if err == nil && id != okay {
		err = fmt.Errorf("%s: %s", id, why)
	}
	return err
}
