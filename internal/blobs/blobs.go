// Package blobs keeps files by the SHA-256 of their contents. A file is either
// there whole or not at all.
package blobs

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"time"
)

// ErrHash means that contents are not what their name says.
var ErrHash = errors.New("the contents do not have the hash they are said to have")

// TooLarge means that contents exceed the limit given.
type TooLarge struct{ Limit int64 }

func (e *TooLarge) Error() string {
	return fmt.Sprintf("larger than the limit of %d MiB", e.Limit>>20)
}

var hashForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

// ValidHash reports whether s is a SHA-256 in lower-case hexadecimal.
func ValidHash(s string) bool { return hashForm.MatchString(s) }

// Dir is a store in a directory.
type Dir struct{ path string }

// Open returns the store in a directory, which is made if need be. A directory
// has one store open at a time.
func Open(path string) (*Dir, error) {
	incoming := filepath.Join(path, "incoming")
	if err := errors.Join(os.RemoveAll(incoming), os.MkdirAll(incoming, 0o700)); err != nil { // what was half received is worth nothing
		return nil, fmt.Errorf("blob directory: %w", err)
	}
	return &Dir{path}, nil
}

// Renew notes that contents are asked for; it reports whether they are there.
func (d *Dir) Renew(hash string) bool {
	f, err := d.file(hash)
	now := time.Now()
	return err == nil && os.Chtimes(f, now, now) == nil
}

// Shelves is how many parts the contents are stored in.
const Shelves = 256

// Older lists the contents of one shelf that were stored or renewed before a time,
// with their sizes in bytes. Shelves count from 0.
func (d *Dir) Older(shelf int, before time.Time) (map[string]int64, error) {
	out := map[string]int64{}
	entries, err := os.ReadDir(filepath.Join(d.path, fmt.Sprintf("%02x", shelf)))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("list files: %w", err)
	}
	for _, e := range entries {
		if info, infoErr := e.Info(); infoErr == nil && ValidHash(e.Name()) && info.ModTime().Before(before) {
			out[e.Name()] = info.Size()
		}
	}
	return out, nil
}

func (d *Dir) file(hash string) (string, error) {
	if !ValidHash(hash) {
		return "", fmt.Errorf("%q is not a SHA-256 in hexadecimal", hash)
	}
	return filepath.Join(d.path, hash[:2], hash), nil
}

// Has reports whether contents are there.
func (d *Dir) Has(hash string) bool {
	f, err := d.file(hash)
	if err != nil {
		return false
	}
	_, err = os.Stat(f)
	return err == nil
}

// Put stores contents under their hash. The error is ErrHash when they have
// another, and *TooLarge beyond limit bytes; nothing is kept then.
func (d *Dir) Put(hash string, limit int64, r io.Reader) (size int64, err error) {
	if _, err := d.file(hash); err != nil {
		return 0, err
	}
	tmp, err := os.CreateTemp(filepath.Join(d.path, "incoming"), "blob-")
	if err != nil {
		return 0, fmt.Errorf("store file: %w", err)
	}
	defer os.Remove(tmp.Name())
	sum := sha256.New()
	size, err = io.Copy(io.MultiWriter(tmp, sum), io.LimitReader(r, limit+1))
	if err = errors.Join(err, tmp.Close()); err != nil {
		return 0, fmt.Errorf("store file: %w", err)
	}
	if size > limit {
		return 0, &TooLarge{limit}
	}
	if hex.EncodeToString(sum.Sum(nil)) != hash {
		return 0, ErrHash
	}
	return size, d.take(tmp.Name(), hash)
}

// Sum reads contents to their end and says their hash and size in bytes.
func Sum(r io.Reader) (hash string, size int64, err error) {
	sum := sha256.New()
	size, err = io.Copy(sum, r)
	return hex.EncodeToString(sum.Sum(nil)), size, err
}

// Check reads contents to their end; the error is ErrHash when they have another hash.
func Check(hash string, r io.Reader) error {
	have, _, err := Sum(r)
	if err == nil && have != hash {
		err = ErrHash
	}
	return err
}

// take moves a file of the same disk to where its hash belongs.
func (d *Dir) take(path, hash string) error {
	to, err := d.file(hash)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(to), 0o700)
	}
	if err == nil {
		err = os.Rename(path, to)
	}
	if err != nil {
		return fmt.Errorf("store file: %w", err)
	}
	return nil
}

// Remove drops contents; it is no error when they are not there.
func (d *Dir) Remove(hash string) error {
	f, err := d.file(hash)
	if err != nil {
		return err
	}
	if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove file: %w", err)
	}
	return nil
}

// Get opens contents for reading; the error is fs.ErrNotExist when they are not
// there.
func (d *Dir) Get(hash string) (*os.File, error) {
	path, err := d.file(hash)
	if err != nil {
		return nil, errors.Join(fs.ErrNotExist, err)
	}
	return os.Open(path)
}
