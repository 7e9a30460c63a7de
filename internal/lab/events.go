package lab

import (
	"slices"
	"sync"

	"parallelpane/internal/api"
)

// hub passes events on to watchers. A watcher that does not keep up is cut off,
// and has to fetch the state anew; nobody else waits for it.
type hub struct {
	mu       sync.Mutex
	watchers map[*Watch]bool
	closed   bool
}

// Watch is a stream of events.
type Watch struct {
	Events <-chan api.Event // closed when the watcher was cut off or the service stops
	ch     chan api.Event
	run    string       // id; "" means every run
	walls  map[int]bool // of every run: the numbers of those whose walls are wanted as well
	among  []string     // projects; nil means every one
	hub    *hub
}

const watchBuffer = 512

func newHub() *hub { return &hub{watchers: map[*Watch]bool{}} }

func (h *hub) watch(run string, among []string, walls ...int) *Watch {
	ch := make(chan api.Event, watchBuffer)
	w := &Watch{Events: ch, ch: ch, run: run, walls: map[int]bool{}, among: among, hub: h}
	for _, n := range walls {
		w.walls[n] = true
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		close(ch)
		return w
	}
	h.watchers[w] = true
	return w
}

// Close ends the stream.
func (w *Watch) Close() { w.hub.drop(w) }

func (h *hub) drop(w *Watch) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watchers[w] {
		delete(h.watchers, w)
		close(w.ch)
	}
}

func (h *hub) publish(e api.Event) {
	api.Fill(&e)
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		if e.Run != nil && (w.run != "" && w.run != e.Run.ID || w.among != nil && !slices.Contains(w.among, e.Run.Project)) {
			continue
		}
		out := e
		if e.Type == "wall" && w.run == "" && !w.walls[e.Run.Number] {
			out = api.Event{Type: "run", Run: e.Run}
		}
		select {
		case w.ch <- out:
		default:
			delete(h.watchers, w)
			close(w.ch)
		}
	}
}

func (h *hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for w := range h.watchers {
		delete(h.watchers, w)
		close(w.ch)
	}
}
