package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"sync"

	"parallelpane/internal/blobs"
	"parallelpane/internal/project"
)

// bundles keeps unpacked bundles by their hash.
type bundles struct {
	dir string
	up  *upstream
	mu  sync.Mutex
}

// get returns the directory of a bundle, fetching it when it is not there.
func (b *bundles) get(ctx context.Context, hash string) (string, error) {
	if !blobs.ValidHash(hash) {
		return "", fmt.Errorf("bundle %q: not a hash", hash)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	dir := filepath.Join(b.dir, hash)
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if err := b.fetch(ctx, hash, dir); err != nil {
		return "", fmt.Errorf("fetch bundle %.12s: %w", hash, err)
	}
	return dir, nil
}

func (b *bundles) fetch(ctx context.Context, hash, dir string) error {
	resp, err := b.up.do(ctx, http.MethodGet, "/agent/bundles/"+hash, nil)
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
