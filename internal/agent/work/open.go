package work

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"sync"
	"time"

	"parallelpane/internal/core/record"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
)

// Open are the sessions that are open now, whoever drives them: their pictures can be
// looked at, what is recorded of them can be read, and a person can reach into them.
type Open struct {
	reachFor time.Duration // for which somebody who has reached in may do nothing

	mu    sync.Mutex
	all   map[string]*watched // by id
	tasks sync.WaitGroup
}

// NewOpen knows of no session yet. Somebody who has reached into one and does nothing
// for some time is taken to have forgotten it.
func NewOpen(reachFor time.Duration) *Open {
	return &Open{reachFor: reachFor, all: map[string]*watched{}}
}

// Wait returns once no session is open.
func (o *Open) Wait() { o.tasks.Wait() }

// Routes answers what the service asks about open sessions.
func (o *Open) Routes(ctx context.Context, mux *http.ServeMux) {
	mux.HandleFunc("GET /sessions/{id}/picture", o.sendPicture)
	mux.HandleFunc("GET /sessions/{id}/sofar/{kind}", o.soFar)
	mux.HandleFunc("POST /sessions/{id}/hand", func(w http.ResponseWriter, r *http.Request) { o.hand(ctx, w, r) })
}

// watched is an open session whose picture can be looked at and which can be
// reached into. Nothing is captured while nobody looks.
type watched struct {
	session *sessions.Session
	rec     *sessions.Recording
	note    func(format string, args ...any)

	mu      sync.Mutex
	picture []byte
	number  int // of the picture, from 1; grows with every one that differs
	at      time.Time
	gone    chan struct{}
}

// Show makes a session known until done is called. What people do with it by hand is
// noted; rec is nil while nothing is recorded.
func (o *Open) Show(id string, s *sessions.Session, rec *sessions.Recording, note func(format string, args ...any)) (done func()) {
	w := &watched{session: s, rec: rec, note: note, gone: make(chan struct{})}
	o.mu.Lock()
	o.all[id] = w
	o.mu.Unlock()
	o.tasks.Go(func() { w.letGo(o.reachFor) })
	return func() {
		o.mu.Lock()
		delete(o.all, id)
		o.mu.Unlock()
		close(w.gone)
	}
}

// letGo frees a session that somebody has reached into and forgotten: it would
// hold a slot for everybody.
func (w *watched) letGo(limit time.Duration) {
	t := time.NewTicker(limit / 20)
	defer t.Stop()
	for {
		select {
		case <-w.gone:
			return
		case <-t.C:
		}
		if who := w.session.Reaching(); w.session.Forsaken(limit) {
			w.session.LetGo()
			w.note("the session was let go: %s did nothing for %s", who, limit)
		}
	}
}

func (o *Open) shown(id string) *watched {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.all[id]
}

// Bounds of the live picture.
const (
	picturePause = 150 * time.Millisecond // between two captures
	pictureWait  = 10 * time.Second       // for a picture that differs
)

// next waits for a picture other than the one of a number.
func (w *watched) next(ctx context.Context, after int) ([]byte, int, error) {
	ctx, cancel := context.WithTimeout(ctx, pictureWait)
	defer cancel()
	for {
		if err := w.capture(ctx); err != nil && ctx.Err() == nil {
			return nil, 0, err
		}
		w.mu.Lock()
		picture, number := w.picture, w.number
		w.mu.Unlock()
		if number != after || ctx.Err() != nil {
			return picture, number, nil
		}
		select {
		case <-w.gone:
			return nil, 0, errors.New("the session has ended")
		case <-ctx.Done():
		case <-time.After(picturePause):
		}
	}
}

// capture takes a picture unless there is a fresh one.
func (w *watched) capture(ctx context.Context) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Since(w.at) < picturePause {
		return nil
	}
	picture, err := w.session.Picture(ctx)
	if err != nil && w.picture != nil {
		w.at = time.Now() // the last one is still true enough: a dialog is open, a page is changing
		return nil
	}
	if err != nil {
		return err
	}
	w.at = time.Now()
	if !bytes.Equal(picture, w.picture) {
		w.picture, w.number = picture, w.number+1
	}
	return nil
}

// sendPicture answers with the session's picture once it is another than the
// one of the number that is asked with; 204 when it stays the same for a while.
func (o *Open) sendPicture(w http.ResponseWriter, r *http.Request) {
	s := o.shown(r.PathValue("id"))
	if s == nil {
		http.Error(w, "the session is not open", http.StatusNotFound)
		return
	}
	after, _ := strconv.Atoi(r.URL.Query().Get("after"))
	picture, number, err := s.next(r.Context(), after)
	switch {
	case err != nil:
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	case number == after || picture == nil:
		w.WriteHeader(http.StatusNoContent)
		return
	}
	media := "image/png"
	if bytes.HasPrefix(picture, []byte{0xff, 0xd8}) {
		media = "image/jpeg"
	}
	w.Header().Set("Content-Type", media)
	w.Header().Set(link.PictureHeader, strconv.Itoa(number))
	_, _ = w.Write(picture)
}

// hand does what a person does with a session that they have reached into.
func (o *Open) hand(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	s := o.shown(r.PathValue("id"))
	if s == nil {
		http.Error(w, "the session is not open", http.StatusNotFound)
		return
	}
	var h link.Hand
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&h); err != nil || h.Who == "" {
		http.Error(w, "expected who does what by hand", http.StatusBadRequest)
		return
	}
	ctx, cancel := context.WithTimeout(sessions.By(ctx, h.Who), 30*time.Second)
	defer cancel()
	switch h.Do {
	case "let-go":
		if holder := s.session.Reaching(); holder != h.Who {
			http.Error(w, "you have not reached into the session", http.StatusConflict)
			return
		}
		s.session.LetGo()
		s.note("%s let the session go", h.Who)
		w.WriteHeader(http.StatusNoContent)
		return
	case "reach":
		if holder, err := s.session.ReachIn(h.Who); err != nil {
			http.Error(w, holder+" has reached into the session", http.StatusConflict)
			return
		}
		s.note("%s reached into the session", h.Who)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if holder := s.session.Reaching(); holder != h.Who {
		http.Error(w, "reach into the session first", http.StatusConflict)
		return
	}
	said, err := s.session.ByHand(ctx, h)
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]string{"said": said})
}

// soFar answers with what was recorded of a kind up to now.
func (o *Open) soFar(w http.ResponseWriter, r *http.Request) {
	s := o.shown(r.PathValue("id"))
	if s == nil || s.rec == nil {
		http.Error(w, "the session is not open", http.StatusNotFound)
		return
	}
	from, _ := strconv.Atoi(r.URL.Query().Get("from"))
	lines, err := s.rec.SoFar(record.Kind(r.PathValue("kind")), from)
	if err != nil {
		http.Error(w, err.Error(), http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "application/jsonl")
	_, _ = w.Write(lines)
}
