package commands

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/link"
	"parallelpane/internal/recording"
)

// Bounds of what is shown while a command runs.
const (
	maxLive     = 256 << 10 // bytes that are held for who looks
	livePer     = 1 << 20   // bytes that are shown of a second
	maxLiveLine = 16 << 10  // bytes of a line without an end
)

// live is what can be seen of what a command prints while it runs: whole lines, without
// secrets. Who looks seldom, or at a command that prints a lot, misses some; all that is
// kept comes at the end.
type live struct {
	mask *recording.Mask
	now  func() time.Time // nil means time.Now
	off  bool             // a secret has several lines, which would be found in whole texts only

	mu    sync.Mutex
	part  []byte // of a line
	lines []byte
	at    int64 // of lines, in all that was shown
	spent int   // bytes of this second
	since time.Time
}

func (l *live) write(b []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now
	if l.now != nil {
		now = l.now
	}
	if t := now(); t.Sub(l.since) > time.Second {
		l.since, l.spent = t, 0
	}
	if l.off || l.spent > livePer {
		l.part = nil
		return
	}
	l.spent += len(b)
	end := bytes.LastIndexByte(b, '\n')
	if end < 0 {
		if l.part = append(l.part, b...); len(l.part) > maxLiveLine {
			l.part = nil
		}
		return
	}
	whole := append(l.part, b[:end+1]...)
	l.part = append([]byte(nil), b[end+1:]...)
	l.lines = append(l.lines, l.mask.Bytes(whole)...)
	if over := len(l.lines) - maxLive; over > 0 {
		cut := over + 1 + bytes.IndexByte(l.lines[over:], '\n')
		l.lines, l.at = append([]byte(nil), l.lines[cut:]...), l.at+int64(cut)
	}
}

// from gives what was shown from a place on.
func (l *live) from(at int64) link.Output {
	l.mu.Lock()
	defer l.mu.Unlock()
	at = min(max(at, l.at), l.at+int64(len(l.lines)))
	return link.Output{From: at, Next: l.at + int64(len(l.lines)), Text: strings.ToValidUTF8(string(l.lines[at-l.at:]), "\uFFFD")}
}

// Outputs are the commands that run now.
type Outputs struct {
	mu  sync.Mutex
	all map[string]*live // by the attempt that stands for them
}

// NewOutputs knows of none yet.
func NewOutputs() *Outputs { return &Outputs{all: map[string]*live{}} }

// show makes a command's output known until done is called.
func (o *Outputs) show(attempt string, l *live) (done func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.all[attempt] = l
	return func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		delete(o.all, attempt)
	}
}

// Routes answers what the service asks about commands that run.
func (o *Outputs) Routes(mux *http.ServeMux) {
	mux.HandleFunc("GET /attempts/{id}/output", func(w http.ResponseWriter, r *http.Request) {
		o.mu.Lock()
		l := o.all[r.PathValue("id")]
		o.mu.Unlock()
		if l == nil {
			http.Error(w, "no such command runs here", http.StatusNotFound)
			return
		}
		at, _ := strconv.ParseInt(r.FormValue("from"), 10, 64) // from the beginning where it is none
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(l.from(at)) // else who asked has gone
	})
}
