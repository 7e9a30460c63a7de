// Package shelf keeps an agent's own directory of browsers as the service wants it, and
// offers none that has not been tried: it fetches what the service stocks, unpacks it,
// opens a session on it, and takes away what is stocked no more and used by nobody. What
// somebody else puts into the directory it notices and tries as well.
package shelf

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/engine/stock"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
)

// prefix is before the id of what the service stocks, in the name of its folder.
const prefix = "stock-"

// How far an installation has come, in the words of the API.
const (
	fetching  = "fetching"
	unpacking = "unpacking"
	offered   = "offered"
	refused   = "refused"
)

// Config is what a shelf is made with.
type Config struct {
	Host    *sessions.Host
	Up      *upstream.Service
	Dir     string        // where archives lie until they are unpacked, and what was tried is noted
	Every   time.Duration // between two looks
	Willing bool          // takes browsers from the service
	Idle    func() bool   // there is no work
	Rest    time.Duration // for which there must be none until the system's browsers are tried
	// Slot takes a place for a session, until it is given back; false when there is none
	// and it is not to wait.
	Slot func(ctx context.Context, wait bool) (back func(), ok bool)
	Log  *slog.Logger
	// Changed is told what the machine has now.
	Changed func(ctx context.Context, f find.Found)
}

// Shelf is an agent's directory of browsers.
type Shelf struct {
	Config
	mu     sync.Mutex
	wanted string                     // the revision that the service named last
	states map[string]link.StockState // by id of what is stocked
	leaves map[string]bool            // folders of what is stocked no more, as long as they are there
	notes  notes
	kick   chan struct{}
}

// notes outlive the agent.
type notes struct {
	Tried   map[string]string `json:"tried"`   // by installation, see key: why it does not open, "" when it does
	Refused map[string]string `json:"refused"` // by id of what is stocked: why
}

// New reads what an earlier agent of the directory has noted.
func New(c Config) *Shelf {
	s := &Shelf{Config: c, states: map[string]link.StockState{}, leaves: map[string]bool{}, kick: make(chan struct{}, 1)}
	if raw, err := os.ReadFile(s.noteFile()); err == nil {
		_ = json.Unmarshal(raw, &s.notes) // of one that is damaged nothing is known
	}
	if s.notes.Tried == nil {
		s.notes.Tried = map[string]string{}
	}
	if s.notes.Refused == nil {
		s.notes.Refused = map[string]string{}
	}
	return s
}

func (s *Shelf) noteFile() string { return filepath.Join(s.Dir, "tried.json") }

func (s *Shelf) note() {
	s.mu.Lock()
	raw, err := json.Marshal(s.notes)
	s.mu.Unlock()
	tmp := s.noteFile() + ".new"
	if err = errors.Join(err, os.MkdirAll(s.Dir, 0o700)); err == nil {
		err = os.WriteFile(tmp, raw, 0o600)
	}
	if err = errors.Join(err, os.Rename(tmp, s.noteFile())); err != nil {
		s.Log.Warn("browsers will be tried once more at the next start", "error", err)
	}
}

// key names an installation such as it is now.
func key(b fleet.Browser) string {
	return strings.Join([]string{b.Path, b.Version, b.Driver, b.DriverVersion}, "\n")
}

// Known applies what is known from trials: what failed is offered to nobody, and neither
// is what came from outside the system's packages and has not been tried yet.
func (s *Shelf) Known(f find.Found) find.Found {
	f.Browsers = slices.Clone(f.Browsers)
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range f.Browsers {
		b := &f.Browsers[i]
		why, tried := s.notes.Tried[key(*b)]
		leaves := false
		for folder := range s.leaves {
			leaves = leaves || strings.HasPrefix(b.Path, folder+string(filepath.Separator))
		}
		switch {
		case b.Fits && leaves:
			b.Fits, b.Problem, b.Remedy = false, "it is stocked no more", "it goes when no session uses it"
		case !b.Fits || tried && why == "":
		case tried:
			b.Fits, b.Problem, b.Remedy = false, why, sessions.AfterTrial(*b)
		case b.From == fleet.Stocked || b.From == fleet.Named:
			b.Fits, b.Problem, b.Remedy = false, Untried, "wait a moment"
		}
	}
	return f
}

// Untried is said of a browser whose trial has not ended.
const Untried = "it is being tried"

// Wanted is told the revision of what the service stocks.
func (s *Shelf) Wanted(revision string) {
	s.mu.Lock()
	fresh := revision != "" && revision != s.wanted
	s.wanted = revision
	s.mu.Unlock()
	if fresh {
		select {
		case s.kick <- struct{}{}:
		default:
		}
	}
}

// States says how far each installation has come that the service stocks for this agent.
func (s *Shelf) States() []link.StockState {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []link.StockState{}
	for _, id := range slices.Sorted(maps.Keys(s.states)) {
		out = append(out, s.states[id])
	}
	return out
}

func (s *Shelf) set(st link.StockState) {
	s.mu.Lock()
	s.states[st.ID] = st
	s.mu.Unlock()
}

// lookEvery is how often the whole machine is looked at anew: a system's packages change.
const lookEvery = 5 * time.Minute

// Run works until the context ends.
func (s *Shelf) Run(ctx context.Context) {
	if err := stock.Sweep(s.Host.Machine); err != nil {
		s.Log.Warn("what was half unpacked stays on disk", "error", err)
	}
	t := time.NewTicker(s.Every)
	defer t.Stop()
	var list []link.StockItem
	done := "" // the revision of list
	seen := "" // of the directory
	again, settled := true, false
	looked, idle := time.Now(), time.Now()
	for {
		s.mu.Lock()
		wanted := s.wanted
		s.mu.Unlock()
		if s.Willing && wanted != "" && wanted != done {
			if got, err := s.list(ctx); err == nil {
				list, done, again = got.Items, got.Revision, true
			} else {
				s.Log.Debug("what the service stocks is not known", "error", err)
			}
		}
		if again && done != "" {
			again = s.follow(ctx, list)
		}
		switch now := s.glance(); {
		case now != seen, time.Since(looked) > lookEvery:
			s.look(ctx)
			seen, settled, looked = s.glance(), false, time.Now()
		case !s.Idle():
			idle = time.Now()
		case !settled && time.Since(idle) > s.Rest:
			settled = !s.tryOne(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.kick:
		case <-t.C:
		}
	}
}

func (s *Shelf) list(ctx context.Context) (out link.Stock, err error) {
	err = s.Up.Get(ctx, "/agent/stock", &out)
	return out, err
}

// glance is what can be seen of the directory from outside.
func (s *Shelf) glance() string {
	var out []string
	for _, own := range s.Host.Machine.Own {
		entries, _ := os.ReadDir(own)
		for _, e := range entries {
			if !strings.HasPrefix(e.Name(), ".") {
				out = append(out, e.Name())
			}
		}
	}
	return strings.Join(out, "\n")
}

// look reads the machine anew, tries what is new in the directory or named by the
// settings, and says what is offered.
func (s *Shelf) look(ctx context.Context) {
	f := s.Host.Found(ctx)
	s.Changed(ctx, s.Known(f))
	for _, b := range f.Browsers {
		if b.From == fleet.Stocked || b.From == fleet.Named {
			s.try(ctx, b, true)
		}
	}
	if ctx.Err() == nil {
		s.Changed(ctx, s.Known(f))
	}
}

// trials is how often a browser may fail until it is believed: a trial is disturbed by
// whatever else goes on.
const trials = 3

// try opens a session on a browser, unless that was done before. It takes a slot, for
// which it may have to wait.
func (s *Shelf) try(ctx context.Context, b fleet.Browser, wait bool) {
	s.mu.Lock()
	_, tried := s.notes.Tried[key(b)]
	s.mu.Unlock()
	if tried || !b.Fits {
		return
	}
	k := key(b)
	back, ok := s.Slot(ctx, wait)
	if !ok {
		return
	}
	s.Log.Info("trying a browser", "browser", b.Name, "version", b.Version)
	was := b
	for range trials {
		b = was
		if s.Host.Try(ctx, &b); b.Problem == "" || ctx.Err() != nil {
			break
		}
	}
	back()
	if ctx.Err() != nil {
		return
	}
	if b.Problem != "" {
		s.Log.Warn("browser left out", "browser", b.Name, "version", b.Version, "problem", b.Problem)
	}
	s.mu.Lock()
	s.notes.Tried[k] = b.Problem
	s.mu.Unlock()
	s.note()
}

// tryOne tries one browser of the system's that never was, while nobody needs the machine;
// false when there is none.
func (s *Shelf) tryOne(ctx context.Context) bool {
	f := s.Host.Found(ctx)
	for _, b := range f.Browsers {
		s.mu.Lock()
		_, tried := s.notes.Tried[key(b)]
		s.mu.Unlock()
		if b.Fits && !tried && b.Engine != "standin" {
			s.try(ctx, b, false)
			if after := s.Known(f); ctx.Err() == nil && !slices.Equal(after.Browsers, f.Browsers) {
				s.Changed(ctx, after)
			}
			return true
		}
	}
	return false
}

// follow brings the directory to what the service wants; true when something is left to
// be done.
func (s *Shelf) follow(ctx context.Context, list []link.StockItem) (again bool) {
	wanted := map[string]bool{}
	for _, item := range list {
		wanted[item.ID] = true
	}
	s.mu.Lock()
	maps.DeleteFunc(s.states, func(id string, _ link.StockState) bool { return !wanted[id] })
	s.mu.Unlock()
	entries, _ := os.ReadDir(s.Host.Machine.Own[0])
	for _, e := range entries {
		id, is := strings.CutPrefix(e.Name(), prefix)
		if !is || wanted[id] {
			continue
		}
		// First it is offered no more; then, when its sessions have ended, it goes.
		folder := filepath.Join(s.Host.Machine.Own[0], e.Name())
		s.mu.Lock()
		told := s.leaves[folder]
		s.leaves[folder] = true
		s.mu.Unlock()
		if !told {
			s.Changed(ctx, s.Known(s.Host.Found(ctx)))
		}
		if !told || s.Host.Uses(folder) {
			again = true
			continue
		}
		if err := stock.Drop(s.Host.Machine, e.Name()); err != nil {
			s.Log.Warn("a browser that is stocked no more stays on disk", "folder", e.Name(), "error", err)
			again = true
			continue
		}
		s.mu.Lock()
		delete(s.leaves, folder)
		s.mu.Unlock()
	}
	for _, item := range list {
		if err := s.take(ctx, item); err != nil {
			again = true
			s.Log.Warn("a stocked browser is not here yet", "stock", item.Name, "error", err)
		}
	}
	return again
}

// take fetches, unpacks and tries one installation. An error is one that may pass.
func (s *Shelf) take(ctx context.Context, item link.StockItem) error {
	st := link.StockState{ID: item.ID, State: fetching}
	s.mu.Lock()
	no := s.notes.Refused[item.ID]
	s.mu.Unlock()
	if no != "" {
		st.State, st.Why = refused, no
		s.set(st)
		return nil
	}
	folder := prefix + item.ID
	if info, err := os.Stat(filepath.Join(s.Host.Machine.Own[0], folder)); err == nil && info.IsDir() {
		return s.judge(ctx, st, folder)
	}
	dir := filepath.Join(s.Dir, item.ID)
	var files []string
	for _, a := range item.Archives {
		// The service is believed no name that leads anywhere.
		if a.Name != filepath.Base(a.Name) || strings.ContainsAny(a.Name, `/\`) || !blobs.ValidHash(a.Hash) {
			return s.refuse(st, fmt.Sprintf("the archive %.100q has no usable name", a.Name))
		}
		file := filepath.Join(dir, a.Hash, a.Name)
		before := st.Done
		s.set(st)
		err := s.fetch(ctx, a, file, func(n int64) {
			st.Done = before + n
			s.set(st)
		})
		if err != nil {
			st.Why = err.Error() + "; it is tried again"
			s.set(st)
			return err
		}
		st.Done = before + a.Size
		files = append(files, file)
	}
	st.State, st.Why = unpacking, ""
	s.set(st)
	_, err := stock.Add(ctx, s.Host.Machine, folder, files...)
	var bad *stock.Bad
	switch {
	case errors.As(err, &bad):
		return errors.Join(s.refuse(st, bad.Error()), os.RemoveAll(dir))
	case err != nil:
		st.Why = err.Error() + "; it is tried again"
		s.set(st)
		return err
	}
	if err := os.RemoveAll(dir); err != nil {
		s.Log.Warn("archives that are unpacked stay on disk", "error", err)
	}
	return s.judge(ctx, st, folder)
}

func (s *Shelf) refuse(st link.StockState, why string) error {
	st.State, st.Why = refused, why
	s.mu.Lock()
	s.notes.Refused[st.ID] = why
	s.mu.Unlock()
	s.note()
	s.set(st)
	s.Log.Warn("a stocked browser is refused", "id", st.ID, "why", why)
	return nil
}

// judge tries what is in a folder and keeps it only if it opens. A driver alone is kept.
func (s *Shelf) judge(ctx context.Context, st link.StockState, folder string) error {
	s.mu.Lock()
	had := s.states[st.ID].State == offered
	s.mu.Unlock()
	if had {
		return nil
	}
	st.State = unpacking
	s.set(st)
	under := filepath.Join(s.Host.Machine.Own[0], folder) + string(filepath.Separator)
	f := s.Host.Found(ctx)
	for _, b := range f.Browsers {
		if !strings.HasPrefix(b.Path, under) {
			continue
		}
		s.try(ctx, b, true)
		if err := ctx.Err(); err != nil {
			return err
		}
		for _, known := range s.Known(find.Found{Browsers: []fleet.Browser{b}}).Browsers {
			if !known.Fits {
				gone := stock.Drop(s.Host.Machine, folder) // before anybody is told
				return errors.Join(gone, s.refuse(st, known.Name+" "+known.Version+": "+known.Problem))
			}
		}
	}
	st.State = offered
	s.set(st)
	s.Changed(ctx, s.Known(f))
	return nil
}

// fetch brings an archive; what is there already of it is not sent again.
func (s *Shelf) fetch(ctx context.Context, a link.StockArchive, file string, had func(n int64)) error {
	if _, err := os.Stat(file); err == nil {
		return nil // it was checked when it got its name
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	part := file + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	from, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if from < a.Size {
		resp, err := s.Up.From(ctx, "/agent/stock/"+a.Hash, from)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusPartialContent && from > 0 {
			if from, err = f.Seek(0, io.SeekStart); err != nil {
				return err
			}
		}
		n, err := io.Copy(f, &counting{r: io.LimitReader(resp.Body, a.Size-from+1), had: func(n int64) { had(from + n) }})
		if err != nil {
			return fmt.Errorf("fetch %s: %w", a.Name, err)
		}
		if from+n < a.Size {
			return fmt.Errorf("fetch %s: %d of %d bytes came", a.Name, from+n, a.Size)
		}
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := blobs.Check(a.Hash, f); err != nil {
		return errors.Join(fmt.Errorf("fetch %s: %w", a.Name, err), os.Remove(part))
	}
	return os.Rename(part, file)
}

// counting tells how much was read, at most every 256 KiB.
type counting struct {
	r       io.Reader
	n, told int64
	had     func(n int64)
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.n += int64(n); c.n-c.told >= 256<<10 {
		c.told = c.n
		c.had(c.n)
	}
	return n, err
}
