package adb

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"sync"
)

const (
	okay = "OKAY"
	fail = "FAIL"
)

// ReadText reads a text after the four hexadecimal digits of its length. io.EOF means
// that nothing came at all.
func ReadText(r io.Reader) (string, error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return "", err
	}
	n, err := strconv.ParseUint(string(head[:]), 16, 32)
	if err != nil || n > maxRequest {
		return "", fmt.Errorf("expected a length of four hexadecimal digits, found %q", head[:])
	}
	text := make([]byte, n)
	if _, err := io.ReadFull(r, text); err != nil {
		return "", noEnd(err)
	}
	return string(text), nil
}

// noEnd is the error of an end in the middle.
func noEnd(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// WriteText writes a text with its length before it.
func WriteText(w io.Writer, text string) error {
	if len(text) > maxRequest-1 {
		return fmt.Errorf("a text of %d bytes is too long: at most %d", len(text), maxRequest-1)
	}
	_, err := fmt.Fprintf(w, "%04x%s", len(text), text)
	return err
}

// Grant answers a request with OKAY, and with texts if it asks for such.
func Grant(w io.Writer, texts ...string) error {
	if _, err := io.WriteString(w, okay); err != nil {
		return err
	}
	for _, t := range texts {
		if err := WriteText(w, t); err != nil {
			return err
		}
	}
	return nil
}

// Refuse answers a request with FAIL and the reason.
func Refuse(w io.Writer, why string) error {
	if _, err := io.WriteString(w, fail); err != nil {
		return err
	}
	return WriteText(w, fmt.Sprintf("%.1000s", why))
}

// ReadSync reads a message of a phone's file service: its name and its body, which has
// at most a number of bytes. The number of DONE, a time, is no length; it is the body.
func ReadSync(r io.Reader, most uint32) (id string, body []byte, err error) {
	var head [8]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return "", nil, err
	}
	id = string(head[:4])
	n := binary.LittleEndian.Uint32(head[4:])
	switch {
	case id == "DONE":
		return id, head[4:], nil
	case n > most:
		return id, nil, fmt.Errorf("a message of %d bytes: at most %d are taken", n, most)
	}
	body = make([]byte, n)
	if _, err := io.ReadFull(r, body); err != nil {
		return id, nil, noEnd(err)
	}
	return id, body, nil
}

// WriteSync writes a message as ReadSync reads it.
func WriteSync(w io.Writer, id string, body []byte) error {
	out := append(make([]byte, 0, 8+len(body)), id...)
	if id != "DONE" {
		out = binary.LittleEndian.AppendUint32(out, uint32(len(body)))
	}
	_, err := w.Write(append(out, body...))
	return err
}

// Join passes on what comes from each of two connections to the other, until both have
// ended; it closes the second.
func Join(a, b net.Conn) {
	defer b.Close()
	var both sync.WaitGroup
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		both.Go(func() {
			_, _ = io.Copy(way[0], way[1])
			if half, ok := way[0].(interface{ CloseWrite() error }); ok {
				_ = half.CloseWrite()
			} else {
				_ = way[0].Close()
			}
		})
	}
	both.Wait()
}
