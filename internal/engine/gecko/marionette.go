package gecko

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"

	"parallelpane/internal/webdriver"
)

// marionette is a connection to the browser's remote port. Messages are
// "length:json"; a command is [0, id, name, parameters], its answer
// [1, id, error, result].
type marionette struct {
	conn    net.Conn
	writeMu sync.Mutex

	mu      sync.Mutex
	next    int64
	waiting map[int64]chan answer
	err     error
	done    chan struct{}
}

type answer struct {
	err    *webdriver.Error
	result json.RawMessage
}

const maxMarionetteMessage = 256 << 20

func dialMarionette(ctx context.Context, dial func(ctx context.Context, network, address string) (net.Conn, error),
	address string) (*marionette, error) {
	conn, err := dial(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("connect firefox: %w", err)
	}
	m := &marionette{conn: conn, waiting: map[int64]chan answer{}, done: make(chan struct{})}
	r := bufio.NewReaderSize(conn, 64<<10)
	if _, err := readMessage(r); err != nil { // greeting with the protocol version
		conn.Close()
		return nil, fmt.Errorf("connect firefox: %w", err)
	}
	go m.read(r)
	return m, nil
}

func readMessage(r *bufio.Reader) ([]byte, error) {
	head, err := r.ReadString(':')
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(strings.TrimSuffix(head, ":"))
	if err != nil || n < 0 || n > maxMarionetteMessage {
		return nil, fmt.Errorf("message with length %q", head)
	}
	raw := make([]byte, n)
	_, err = io.ReadFull(r, raw)
	return raw, err
}

func (m *marionette) read(r *bufio.Reader) {
	defer close(m.done)
	for {
		raw, err := readMessage(r)
		if err != nil {
			m.fail(err)
			return
		}
		var parts [4]json.RawMessage
		var id int64
		var a answer
		if err := json.Unmarshal(raw, &parts); err == nil {
			err = json.Unmarshal(parts[1], &id)
			if err == nil && string(parts[2]) != "null" {
				err = json.Unmarshal(parts[2], &a.err)
			}
			if err != nil {
				m.fail(err)
				return
			}
		}
		a.result = parts[3]
		m.mu.Lock()
		ch := m.waiting[id]
		delete(m.waiting, id)
		m.mu.Unlock()
		if ch != nil {
			ch <- a
		}
	}
}

func (m *marionette) fail(err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.err == nil {
		m.err = err
	}
	for id, ch := range m.waiting {
		delete(m.waiting, id)
		close(ch)
	}
}

var errBrowserGone = errors.New("the browser has closed its remote port")

// call sends a command and waits for its answer.
func (m *marionette) call(ctx context.Context, name string, params any) (json.RawMessage, error) {
	ch := make(chan answer, 1)
	m.mu.Lock()
	if m.err != nil {
		m.mu.Unlock()
		return nil, errBrowserGone
	}
	m.next++
	id := m.next
	m.waiting[id] = ch
	m.mu.Unlock()

	body, err := json.Marshal([]any{0, id, name, params})
	if err != nil {
		return nil, err
	}
	m.writeMu.Lock()
	_, err = m.conn.Write(append([]byte(strconv.Itoa(len(body))+":"), body...))
	m.writeMu.Unlock()
	if err != nil {
		m.fail(err)
	}
	select {
	case a, ok := <-ch:
		switch {
		case !ok:
			return nil, errBrowserGone
		case a.err != nil:
			return nil, a.err
		}
		return a.result, nil
	case <-ctx.Done():
		m.mu.Lock()
		delete(m.waiting, id)
		m.mu.Unlock()
		return nil, ctx.Err()
	}
}

// Close ends the connection and waits for its goroutine.
func (m *marionette) Close() {
	m.conn.Close()
	<-m.done
}
