package relay

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"parallelpane/internal/place"
)

// connecting bounds how long a place may take to take a connection.
const connecting = 10 * time.Second

// Owner is the developer's end.
type Owner struct {
	Places []place.Place
	// Closed says that an address is the lab's own. It may be nil.
	Closed func(netip.AddrPort) bool
	// Said is told of each connection that was refused or could not be made, and of
	// each that has ended. It may be called at any time and from anywhere.
	Said func(to string, in, out int64, err error)

	in, out atomic.Int64
	open    atomic.Int64
}

// Passed is what has passed so far: bytes to the application and from it, and the
// connections that are open.
func (o *Owner) Passed() (in, out, open int64) { return o.in.Load(), o.out.Load(), o.open.Load() }

// Serve leads to the places what comes on the streams of a listener, until that is
// closed; every connection ends with it.
func (o *Owner) Serve(l net.Listener) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s := &http.Server{ReadHeaderTimeout: connecting, MaxHeaderBytes: 16 << 10, ErrorLog: log.New(io.Discard, "", 0),
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { o.lead(ctx, w, r) })}
	return s.Serve(l)
}

func (o *Owner) lead(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	refuse := func(status int, err error) {
		o.Said(r.Host, 0, 0, err)
		http.Error(w, err.Error(), status)
	}
	if r.Method != http.MethodConnect {
		http.Error(w, "this is a relay", http.StatusMethodNotAllowed)
		return
	}
	if !place.Holds(o.Places, r.Host) {
		refuse(http.StatusForbidden, fmt.Errorf("%s is not on the list of this relay: %s", r.Host, List(o.Places)))
		return
	}
	d := net.Dialer{Timeout: connecting, ControlContext: func(_ context.Context, _, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		if why := place.Never(to.Addr()); why != "" {
			return fmt.Errorf("%s is not to be reached: %s", to, why)
		}
		if o.Closed != nil && o.Closed(to) {
			return fmt.Errorf("%s is not to be reached: it is the lab's own", to)
		}
		return nil
	}}
	to, err := d.DialContext(r.Context(), "tcp", r.Host)
	if err != nil {
		refuse(http.StatusBadGateway, fmt.Errorf("%s cannot be reached from the relay's machine: %w", r.Host, err))
		return
	}
	from, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		to.Close()
		return
	}
	if _, err := io.WriteString(from, "HTTP/1.1 200 Connected\r\n\r\n"); err != nil {
		from.Close()
		to.Close()
		return
	}
	stop := context.AfterFunc(ctx, func() {
		from.Close()
		to.Close()
	})
	defer stop()
	o.open.Add(1)
	var in, out atomic.Int64
	join(from, to, func(n int) { o.out.Add(int64(n)); out.Add(int64(n)) }, func(n int) { o.in.Add(int64(n)); in.Add(int64(n)) })
	o.open.Add(-1)
	o.Said(r.Host, in.Load(), out.Load(), nil)
}

// List is the list of a relay in words.
func List(places []place.Place) string {
	words := make([]string, len(places))
	for i, p := range places {
		words[i] = p.String()
	}
	return strings.Join(words, ", ")
}
