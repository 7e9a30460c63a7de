//go:build unix

package httpapi

import (
	"net"
	"sync"
	"syscall"
	"time"
)

// watchGone watches, while a request is being answered, whether its client has
// closed the connection; gone is closed then. stop ends the watch and waits for
// it.
func watchGone(conn net.Conn) (gone <-chan struct{}, stop func()) {
	ch, done := make(chan struct{}), make(chan struct{})
	if secured, is := conn.(interface{ NetConn() net.Conn }); is { // over TLS: the end of the connection below it
		conn = secured.NetConn()
	}
	c, ok := conn.(syscall.Conn)
	if !ok {
		return ch, func() {}
	}
	raw, err := c.SyscallConn()
	if err != nil {
		return ch, func() {}
	}
	var task sync.WaitGroup
	task.Go(func() {
		t := time.NewTicker(200 * time.Millisecond)
		defer t.Stop()
		for {
			select {
			case <-done:
				return
			case <-t.C:
			}
			closed := false
			err := raw.Control(func(fd uintptr) {
				var b [1]byte
				n, _, err := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
				closed = (n == 0 && err == nil) || err == syscall.ECONNRESET
			})
			if err != nil || closed {
				close(ch)
				return
			}
		}
	})
	return ch, func() {
		close(done)
		task.Wait()
	}
}
