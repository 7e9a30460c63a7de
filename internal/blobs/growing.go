package blobs

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
)

// Growing holds files that come in pieces, each under an owner and a name, until
// they are whole and stored by their contents. Pieces may come again, and the
// bytes of one place may be replaced by others.
type Growing struct {
	dir  *Dir
	root *os.Root
	mu   sync.Mutex // held while a file is written or moved away
}

// Grown is a file of an owner as far as it has come.
type Grown struct {
	Name string
	Size int64
}

// OpenGrowing returns the growing files beside a store.
func OpenGrowing(d *Dir) (*Growing, error) {
	path := filepath.Join(d.path, "growing")
	if err := os.MkdirAll(path, 0o700); err != nil {
		return nil, fmt.Errorf("directory of growing files: %w", err)
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, fmt.Errorf("directory of growing files: %w", err)
	}
	return &Growing{dir: d, root: root}, nil
}

// Close lets the directory go.
func (g *Growing) Close() error { return g.root.Close() }

// Put writes a piece at a place, in bytes from the file's beginning, and returns
// how much of the file is there. A piece that would leave a gap is not written:
// the answer says where to go on. The error is *TooLarge when the file would
// exceed limit bytes.
func (g *Growing) Put(owner, name string, at, limit int64, piece []byte) (have int64, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if err := g.root.Mkdir(owner, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return 0, fmt.Errorf("growing file: %w", err)
	}
	f, err := g.root.OpenFile(filepath.Join(owner, name), os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, fmt.Errorf("growing file: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, fmt.Errorf("growing file: %w", err)
	}
	end := at + int64(len(piece))
	switch {
	case at < 0 || at > info.Size():
		return info.Size(), nil
	case end > limit:
		return info.Size(), &TooLarge{limit}
	}
	if _, err := f.WriteAt(piece, at); err != nil {
		return info.Size(), fmt.Errorf("growing file: %w", err)
	}
	return max(end, info.Size()), nil
}

// Of lists what has come of an owner's files, by name.
func (g *Growing) Of(owner string) (files []Grown, err error) {
	entries, err := fs.ReadDir(g.root.FS(), owner)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("growing files: %w", err)
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			return nil, fmt.Errorf("growing files: %w", err)
		}
		files = append(files, Grown{e.Name(), info.Size()})
	}
	return files, nil
}

// Settle ends a file's growing and stores it under its hash. With a hash wanted,
// a file that has another is dropped and the error is ErrHash; one that is not
// there is fs.ErrNotExist.
func (g *Growing) Settle(owner, name, want string) (hash string, size int64, err error) {
	path := filepath.Join(owner, name)
	if !filepath.IsLocal(owner) || !filepath.IsLocal(path) {
		return "", 0, fmt.Errorf("%q is not the name of a growing file", path)
	}
	tmp := filepath.Join(g.dir.path, "incoming", "grown-"+rand.Text())
	g.mu.Lock()
	err = os.Rename(filepath.Join(g.root.Name(), path), tmp) // from here on no piece reaches it
	g.mu.Unlock()
	if err != nil {
		return "", 0, fmt.Errorf("growing file: %w", err)
	}
	defer os.Remove(tmp)
	f, err := os.Open(tmp)
	if err != nil {
		return "", 0, fmt.Errorf("growing file: %w", err)
	}
	sum := sha256.New()
	size, err = io.Copy(sum, f)
	if err = errors.Join(err, f.Close()); err != nil {
		return "", 0, fmt.Errorf("growing file: %w", err)
	}
	hash = hex.EncodeToString(sum.Sum(nil))
	if want != "" && want != hash {
		return "", 0, ErrHash
	}
	return hash, size, g.dir.take(tmp, hash)
}

// Drop removes what an owner has left.
func (g *Growing) Drop(owner string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if err := g.root.RemoveAll(owner); err != nil {
		return fmt.Errorf("growing files: %w", err)
	}
	return nil
}

// Owners lists who has growing files.
func (g *Growing) Owners() (owners []string, err error) {
	entries, err := fs.ReadDir(g.root.FS(), ".")
	if err != nil {
		return nil, fmt.Errorf("growing files: %w", err)
	}
	for _, e := range entries {
		owners = append(owners, e.Name())
	}
	return owners, nil
}
