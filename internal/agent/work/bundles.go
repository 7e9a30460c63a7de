package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/blobs"
	"parallelpane/internal/project"
)

// Bundles keeps unpacked bundles by their hash, and those that nothing has used
// for long no more.
type Bundles struct {
	dir   string
	up    *upstream.Service
	mu    sync.Mutex
	using map[string]int // by hash
}

// NewBundles keeps bundles in a directory, and fetches what is not there.
func NewBundles(dir string, up *upstream.Service) *Bundles { return &Bundles{dir: dir, up: up} }

// bundleLife is for how long a bundle is kept after its last use.
const bundleLife = 3 * 24 * time.Hour

// Get returns the directory of a bundle, fetching it when it is not there. It
// stays there until done is called.
func (b *Bundles) Get(ctx context.Context, hash string) (dir string, done func(), err error) {
	if !blobs.ValidHash(hash) {
		return "", func() {}, fmt.Errorf("bundle %q: not a hash", hash)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	dir = filepath.Join(b.dir, hash)
	if _, err := os.Stat(dir); err != nil {
		if err := errors.Join(b.sweepLocked(time.Now()), b.fetch(ctx, hash, dir)); err != nil {
			return "", func() {}, fmt.Errorf("fetch bundle %.12s: %w", hash, err)
		}
	}
	now := time.Now()
	_ = os.Chtimes(dir, now, now) // at worst it is fetched once more than it need be
	if b.using == nil {
		b.using = map[string]int{}
	}
	b.using[hash]++
	return dir, sync.OnceFunc(func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.using[hash]--; b.using[hash] == 0 {
			delete(b.using, hash)
		}
	}), nil
}

// Sweep removes bundles that were not used for long, and what was half unpacked.
func (b *Bundles) Sweep(now time.Time) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.sweepLocked(now)
}

func (b *Bundles) sweepLocked(now time.Time) error {
	entries, err := os.ReadDir(b.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		info, infoErr := e.Info()
		if infoErr != nil || b.using[e.Name()] > 0 {
			continue
		}
		if half := strings.HasPrefix(e.Name(), "new-") || e.Name() == "packed"; half || now.Sub(info.ModTime()) > bundleLife {
			err = errors.Join(err, os.RemoveAll(filepath.Join(b.dir, e.Name())))
		}
	}
	return err
}

func (b *Bundles) fetch(ctx context.Context, hash, dir string) error {
	resp, err := b.up.Do(ctx, http.MethodGet, "/agent/bundles/"+hash, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	packed, err := blobs.Open(filepath.Join(b.dir, "packed")) // checks the hash before anything is unpacked
	if err != nil {
		return err
	}
	if _, err := packed.Put(hash, project.MaxBundleBytes, resp.Body); err != nil {
		return err
	}
	defer packed.Remove(hash)
	f, err := packed.Get(hash)
	if err != nil {
		return err
	}
	defer f.Close()
	tmp, err := os.MkdirTemp(b.dir, "new-")
	if err != nil {
		return err
	}
	if err := errors.Join(project.Unpack(io.Reader(f), tmp), os.Chmod(tmp, 0o755)); err != nil {
		return errors.Join(err, os.RemoveAll(tmp))
	}
	return os.Rename(tmp, dir)
}
