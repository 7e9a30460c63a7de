package project

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"parallelpane/internal/script"
)

// Limits of a bundle.
const (
	MaxBundleBytes   = 256 << 20 // as sent
	MaxUnpackedBytes = 512 << 20 // all files together
	MaxBundleFiles   = 25_000
)

// Pack builds the bundle of a suite: pane.yaml, its scripts, its files and
// whatever they upload. The same files give the same bytes. hash is the SHA-256
// of the bundle in hexadecimal.
func (p *Project) Pack(files Files, suite Suite, scripts []*script.Script) (bundle []byte, hash string, err error) {
	names := []string{FileName}
	for _, part := range suite.Each() {
		found, err := globAll(files, slices.Concat(part.Scripts, part.Cases, part.Files, p.Blocks))
		if err != nil {
			return nil, "", err
		}
		names = append(names, found...)
		if part.Listed() {
			names = append(names, listFile(part.Name))
		}
		if part.Data != nil {
			names = append(names, part.Data.File)
		}
	}
	for _, s := range scripts {
		if s.Data != nil {
			names = append(names, s.Data.File)
		}
		for _, st := range s.Steps {
			if st.Action == script.Upload && !strings.Contains(st.Text.Source, "${") {
				names = append(names, st.Text.Source)
			}
		}
	}
	slices.Sort(names)
	names = slices.Compact(names)
	if len(names) > MaxBundleFiles {
		return nil, "", fmt.Errorf("suite %s has %d files; a bundle holds at most %d", suite.Name, len(names), MaxBundleFiles)
	}
	var buf bytes.Buffer
	zw, _ := gzip.NewWriterLevel(&buf, gzip.BestSpeed)
	tw := tar.NewWriter(zw)
	total := 0
	for _, name := range names {
		src, err := files.Read(name)
		if err != nil {
			return nil, "", fmt.Errorf("bundle %s: %w", name, err)
		}
		if total += len(src); total > MaxUnpackedBytes {
			return nil, "", fmt.Errorf("the files of suite %s are larger than %d MiB together: narrow its files globs",
				suite.Name, MaxUnpackedBytes>>20)
		}
		if err := tw.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(src)), Format: tar.FormatPAX}); err != nil {
			return nil, "", fmt.Errorf("bundle %s: %w", name, err)
		}
		if _, err := tw.Write(src); err != nil {
			return nil, "", fmt.Errorf("bundle %s: %w", name, err)
		}
	}
	if err := errors.Join(tw.Close(), zw.Close()); err != nil {
		return nil, "", fmt.Errorf("bundle: %w", err)
	}
	if buf.Len() > MaxBundleBytes {
		return nil, "", fmt.Errorf("the bundle of suite %s has %d MiB; at most %d are taken", suite.Name, buf.Len()>>20, MaxBundleBytes>>20)
	}
	sum := sha256.Sum256(buf.Bytes())
	return buf.Bytes(), hex.EncodeToString(sum[:]), nil
}

// BundleError says why a bundle is refused.
type BundleError struct{ Reason string }

func (e *BundleError) Error() string { return "bundle refused: " + e.Reason }

func refuse(format string, args ...any) error { return &BundleError{fmt.Sprintf(format, args...)} }

// walk calls f for every file of a bundle after checking its name and the
// limits.
func walk(r io.Reader, f func(name string, size int64, body io.Reader) error) error {
	zr, err := gzip.NewReader(r)
	if err != nil {
		return refuse("not a gzip archive")
	}
	tr := tar.NewReader(zr)
	seen := map[string]bool{}
	var total int64
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return refuse("not a readable archive: %v", err)
		}
		switch {
		case h.Typeflag != tar.TypeReg:
			return refuse("%q is not a regular file", h.Name)
		case !filepath.IsLocal(h.Name) || strings.Contains(h.Name, `\`) || h.Name != filepath.ToSlash(filepath.Clean(h.Name)):
			return refuse("the path %q leaves its root", h.Name)
		case seen[h.Name]:
			return refuse("%q is in it twice", h.Name)
		case len(seen) >= MaxBundleFiles:
			return refuse("more than %d files", MaxBundleFiles)
		}
		seen[h.Name] = true
		if total += h.Size; total > MaxUnpackedBytes {
			return refuse("larger than %d MiB unpacked", MaxUnpackedBytes>>20)
		}
		if err := f(h.Name, h.Size, tr); err != nil {
			return err
		}
	}
}

// maxHeld is the size up to which files are held: that of scripts, or of the names that
// a listing command may print.
const maxHeld = max(script.MaxFileBytes, MaxListed*(maxListedName+1))

// Archive is an opened bundle. Only YAML files and lists of names are
// held in memory; files of rows are read when they are asked for, and the others are
// known by name.
type Archive struct {
	names []string
	text  map[string][]byte
	open  func() (io.ReadCloser, error)
}

// OpenBundle reads and checks a whole bundle. With open it is read once more, for files of
// rows.
func OpenBundle(r io.Reader, open func() (io.ReadCloser, error)) (*Archive, error) {
	a := &Archive{text: map[string][]byte{}, open: open}
	err := walk(r, func(name string, size int64, body io.Reader) error {
		a.names = append(a.names, name)
		if !strings.HasSuffix(name, ".yaml") && path.Dir(name) != path.Dir(listFile("x")) || size > maxHeld {
			return nil
		}
		src, err := io.ReadAll(body)
		if err != nil {
			return refuse("%q: %v", name, err)
		}
		a.text[name] = src
		return nil
	})
	if err != nil {
		return nil, err
	}
	return a, nil
}

// Glob lists the files that match, sorted.
func (a *Archive) Glob(pattern string) ([]string, error) {
	var out []string
	for _, n := range a.names {
		ok, err := doublestar.Match(pattern, n)
		if err != nil {
			return nil, err
		}
		if ok {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Read returns a YAML file of the bundle, or one of rows.
func (a *Archive) Read(name string) ([]byte, error) {
	if src, ok := a.text[name]; ok {
		return src, nil
	}
	if !slices.Contains(a.names, name) || !slices.Contains(RowForms, strings.ToLower(path.Ext(name))) {
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	r, err := a.open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var src []byte
	err = walk(r, func(n string, _ int64, body io.Reader) (err error) {
		if n == name {
			src, err = io.ReadAll(io.LimitReader(body, maxRowsBytes+1))
		}
		return err
	})
	return src, err
}

// Prints are the SHA-256 of some files, of what is left of each when edit is done with it;
// those of files that are too large to be held are of all of them. Bundles without an
// opener have those of files that are held.
func (a *Archive) Prints(names []string, edit func(name string, body []byte) []byte) (map[string]string, error) {
	out, wanted := map[string]string{}, map[string]bool{}
	for _, n := range names {
		if src, ok := a.text[n]; ok {
			sum := sha256.Sum256(edit(n, src))
			out[n] = string(sum[:])
		} else {
			wanted[n] = true
		}
	}
	if len(wanted) == 0 || a.open == nil {
		return out, nil
	}
	r, err := a.open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	err = walk(r, func(n string, size int64, body io.Reader) error {
		if !wanted[n] {
			return nil
		}
		h := sha256.New()
		if size > maxHeld {
			_, err := io.Copy(h, body)
			out[n] = string(h.Sum(nil))
			return err
		}
		src, err := io.ReadAll(body)
		h.Write(edit(n, src))
		out[n] = string(h.Sum(nil))
		return err
	})
	return out, err
}

// maxText bounds a file that is shown, in bytes.
const maxText = 256 << 10

// TextOf reads one file of a bundle for people to look at: its beginning where it is
// long, "" where it is no text.
func TextOf(r io.Reader, name string) (text string, err error) {
	err = walk(r, func(n string, _ int64, body io.Reader) error {
		if n != name {
			return nil
		}
		raw, err := io.ReadAll(io.LimitReader(body, maxText))
		if bytes.IndexByte(raw, 0) < 0 {
			text = strings.ToValidUTF8(string(raw), "\uFFFD")
		}
		return err
	})
	return text, err
}

// Unpack writes a bundle's files below dir, which must exist. Nothing is
// written outside dir, whatever the bundle says.
func Unpack(r io.Reader, dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return fmt.Errorf("unpack: %w", err)
	}
	defer root.Close()
	return walk(r, func(name string, _ int64, body io.Reader) error {
		if parent := filepath.Dir(name); parent != "." {
			if err := root.MkdirAll(parent, 0o755); err != nil {
				return fmt.Errorf("unpack %s: %w", name, err)
			}
		}
		f, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if err != nil {
			return fmt.Errorf("unpack %s: %w", name, err)
		}
		_, err = io.Copy(f, body)
		if err = errors.Join(err, f.Close()); err != nil {
			return fmt.Errorf("unpack %s: %w", name, err)
		}
		return nil
	})
}
