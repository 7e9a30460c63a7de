// Package relay is both ends of the way in to an application that only its
// developer's machine reaches. The developer's end holds one connection open to the
// service; over it the service leads the sessions of runs that name the relay to
// the places on its list, by HTTP CONNECT (RFC 9110 section 9.3.6) on a stream for each
// connection. It never looks into what passes.
package relay

import (
	"io"
	"net"
	"sync"
)

// Path is where the service takes relays, under its API.
const Path = "/relays/open"

// MaxOpen bounds the connections that one relay holds at once.
const MaxOpen = 256

// chunk is how many bytes are copied at once.
const chunk = 128 << 10

var chunks = sync.Pool{New: func() any { return new([chunk]byte) }}

// carry copies to one end what comes from the other until that has no more, and tells count.
func carry(to io.Writer, from io.Reader, count func(n int)) error {
	buf := chunks.Get().(*[chunk]byte)
	defer chunks.Put(buf)
	for {
		n, err := from.Read(buf[:])
		if n > 0 {
			count(n)
			if _, werr := to.Write(buf[:n]); werr != nil {
				return werr
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// join carries both ways between two connections, which it closes at the end. toA and
// toB count bytes.
func join(a, b net.Conn, toA, toB func(n int)) {
	done := make(chan struct{})
	shut := sync.OnceFunc(func() {
		a.Close()
		b.Close()
	})
	go func() {
		defer close(done)
		if carry(b, a, toB) != nil || !half(b) {
			shut()
		}
	}()
	if carry(a, b, toA) != nil || !half(a) {
		shut()
	}
	<-done
	shut()
}

// half says on a connection that no more comes, where it can be said.
func half(c net.Conn) bool {
	w, ok := c.(interface{ CloseWrite() error })
	return ok && w.CloseWrite() == nil
}
