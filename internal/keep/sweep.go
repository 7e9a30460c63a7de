// Package keep says for how long recordings stay, removes those whose time is over
// and contents that no record names, and watches the room on the disk. Verdicts and
// steps are never its subject.
package keep

import (
	"context"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// Config is what a Keeper works with.
type Config struct {
	Store   *store.Store
	Blobs   *blobs.Dir
	Log     *slog.Logger
	Now     func() time.Time
	Dir     string // whose disk is watched
	Total   int64  // bytes that all recordings may have together; 0 means no bound
	MinFree uint64 // bytes that must be free for recordings to be taken
}

// Keeper keeps recordings.
type Keeper struct {
	store    *store.Store
	blobs    *blobs.Dir
	log      *slog.Logger
	now      func() time.Time
	dir      string
	total    int64
	minFree  uint64
	storage  atomic.Pointer[api.Storage]
	sweeping sync.Mutex   // held by a sweep
	putting  sync.RWMutex // held to read from a file's coming to its being on record, and to write while contents are removed
}

// New makes a Keeper. What a backup left behind that was under way when the service was
// killed is removed.
func New(c Config) *Keeper {
	left, _ := filepath.Glob(filepath.Join(c.Dir, backupDirs))
	for _, dir := range left {
		if err := os.RemoveAll(dir); err != nil {
			c.Log.Warn("what is left of a backup stays on disk", "directory", dir, "error", err)
		}
	}
	return &Keeper{store: c.Store, blobs: c.Blobs, log: c.Log, now: c.Now, dir: c.Dir, total: c.Total, minFree: c.MinFree}
}

// Naming holds sweeps off while contents that have come are not on record yet;
// done lets them go on.
func (k *Keeper) Naming() (done func()) {
	k.putting.RLock()
	return k.putting.RUnlock
}

const (
	sweepEvery = time.Hour
	sweepParts = 24 // of the shelves, each sweep looks at one of so many for orphans
	maxSwept   = 500
	sweepBatch = 30             // files at once
	OrphanLife = 24 * time.Hour // for so long contents that no record names stay
)

// Sweeper sweeps now and then, until stop is closed.
func (k *Keeper) Sweeper(stop <-chan struct{}) {
	t := time.NewTicker(sweepEvery)
	defer t.Stop()
	for part := 0; ; part = (part + 1) % sweepParts {
		select {
		case <-stop:
			return
		case <-t.C:
		}
		if done, err := k.sweep(context.Background(), false, part*blobs.Shelves/sweepParts, (part+1)*blobs.Shelves/sweepParts); err != nil {
			k.log.Error("recordings could not be swept", "error", err)
		} else if done.Count > 0 {
			k.log.Info("recordings swept", "files", done.Count, "bytes", done.Bytes)
		}
	}
}

// Sweep removes the recorded files whose time is over, and every content that no
// record names; a dry one only says which. Verdicts, messages and steps stay.
func (k *Keeper) Sweep(ctx context.Context, dry bool) (api.Sweep, error) {
	return k.sweep(ctx, dry, 0, blobs.Shelves)
}

// sweep looks for orphans only on some shelves. What it costs follows from what
// goes, not from what is kept.
func (k *Keeper) sweep(ctx context.Context, dry bool, from, to int) (api.Sweep, error) {
	k.sweeping.Lock() // one at a time
	defer k.sweeping.Unlock()
	out := api.Sweep{Dry: dry}
	projects, err := k.store.Projects(ctx)
	if err != nil {
		return out, err
	}
	policy := retain.Policy{Rules: map[string][]retain.Rule{}, Total: k.total}
	for _, row := range projects {
		p, err := settingsOf(row)
		if err != nil {
			return out, err
		}
		if len(p.Keep) > 0 {
			policy.Rules[p.Name] = p.Keep
		}
	}
	rows, err := k.store.Heaps(ctx)
	if err != nil {
		return out, err
	}
	heaps := make([]retain.Heap, len(rows))
	for i, h := range rows {
		heaps[i] = retain.Heap{Project: h.Project, Kind: record.Kind(h.Kind), Verdict: verdict.Verdict(h.Verdict), Files: h.Files, Bytes: h.Bytes}
		out.Left, out.Kept = out.Left+h.Files, out.Kept+h.Bytes
	}
	if err := policy.Sweep(k.now(), heaps, &sweeping{k, ctx, &out, map[[2]string]string{}}); err != nil {
		return out, err
	}
	out.Left, out.Kept = out.Left-out.Count, out.Kept-out.Bytes
	for shelf := from; shelf < to; shelf++ {
		if err := k.sweepOrphans(ctx, shelf, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// sweeping is the records under a sweep.
type sweeping struct {
	k    *Keeper
	ctx  context.Context // of the one sweep
	out  *api.Sweep
	hash map[[2]string]string // of the files that were listed
}

// Oldest implements retain.Records.
func (x *sweeping) Oldest(h retain.Heap, before time.Time, skip int) ([]retain.File, error) {
	rows, err := x.k.store.OldFiles(x.ctx, store.Heap{Project: h.Project, Kind: string(h.Kind), Verdict: string(h.Verdict)},
		store.Millis(before), skip, sweepBatch)
	out := make([]retain.File, len(rows))
	for i, f := range rows {
		out[i] = retain.File{Attempt: f.Attempt, Name: f.Name, Project: h.Project, Kind: h.Kind, Verdict: h.Verdict,
			Size: f.Size, At: store.Time(f.At)}
		x.hash[[2]string{f.Attempt, f.Name}] = f.Hash
	}
	return out, err
}

// Drop implements retain.Records.
func (x *sweeping) Drop(doomed []retain.Doomed) (gone bool, err error) {
	for _, d := range doomed {
		x.out.Count, x.out.Bytes = x.out.Count+1, x.out.Bytes+d.Size
		if len(x.out.Files) < maxSwept {
			x.out.Files = append(x.out.Files, api.SweptFile{Session: attempt.Session(d.Attempt, 1), Name: d.Name, Kind: d.Kind,
				Project: d.Project, Verdict: d.Verdict, Size: d.Size, Why: d.Why})
		}
	}
	if x.out.Dry {
		return false, nil
	}
	return true, x.k.dropFiles(x.ctx, doomed, x.hash)
}

// sweepOrphans removes contents of a shelf that have been here for a while and that
// no record names, a few at a time.
func (k *Keeper) sweepOrphans(ctx context.Context, shelf int, out *api.Sweep) error {
	old, err := k.blobs.Older(shelf, k.now().Add(-OrphanLife))
	if err != nil {
		return err
	}
	for some := range slices.Chunk(slices.Sorted(maps.Keys(old)), sweepBatch) {
		if err := k.dropOrphans(ctx, some, out.Dry, func(hash string) {
			out.Orphans, out.OrphanBytes = out.Orphans+1, out.OrphanBytes+old[hash]
		}); err != nil {
			return err
		}
	}
	return nil
}

func (k *Keeper) dropOrphans(ctx context.Context, hashes []string, dry bool, found func(hash string)) error {
	k.putting.Lock() // nothing with the same contents is just being handed in
	defer k.putting.Unlock()
	used, err := k.store.HashesInUse(ctx, hashes)
	if err != nil {
		return err
	}
	for _, h := range hashes {
		if slices.Contains(used, h) {
			continue
		}
		found(h)
		if !dry {
			if err := k.blobs.Remove(h); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropFiles forgets files and then removes the contents that nothing refers to
// any more: a crash between leaves contents behind, never a file without any.
func (k *Keeper) dropFiles(ctx context.Context, doomed []retain.Doomed, hash map[[2]string]string) error {
	k.putting.Lock() // no file with the same contents is just being handed in
	defer k.putting.Unlock()
	var batch []store.Stmt
	var hashes []string
	for _, d := range doomed {
		batch = append(batch, store.DropFile(d.Attempt, d.Name))
		key := [2]string{d.Attempt, d.Name}
		hashes = append(hashes, hash[key])
		delete(hash, key)
	}
	if err := k.store.Write(batch...); err != nil {
		return err
	}
	used, err := k.store.HashesInUse(ctx, hashes)
	if err != nil {
		return err
	}
	keep := map[string]bool{}
	for _, h := range used {
		keep[h] = true
	}
	for _, h := range hashes {
		if !keep[h] {
			if err := k.blobs.Remove(h); err != nil {
				return err
			}
		}
	}
	return nil
}
