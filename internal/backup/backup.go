// Package backup is the form of backups: a tar archive of what it is, the records as
// they were at one moment, the contents that lay beside them, and a count by which one
// that was cut off is known. It writes and reads them and knows nothing of a service.
package backup

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"parallelpane/internal/blobs"
)

// Names in a backup.
const (
	Records  = "pane.db" // the database of a data directory
	headName = "backup.json"
	endName  = "end.json"
	Contents = "blobs" // the directory of contents in it
)

// format is the form of backups that this program writes and reads.
const format = 1

// Head says what a backup is.
type Head struct {
	Format  int       `json:"format"`
	MadeAt  time.Time `json:"made_at"`
	Version string    `json:"version"` // of the program
}

// End says what is in it.
type End struct {
	Contents int   `json:"contents"`
	Bytes    int64 `json:"bytes"` // of records and contents
}

// Writer writes a backup.
type Writer struct {
	out *tar.Writer
	end End
}

// NewWriter begins a backup of the records and contents that are put into it.
func NewWriter(w io.Writer, madeAt time.Time, version string) (*Writer, error) {
	out := tar.NewWriter(w)
	return &Writer{out: out}, putJSON(out, headName, Head{format, madeAt.UTC(), version})
}

// PutRecords writes the database.
func (w *Writer) PutRecords(file string) error { return w.put(Records, file) }

// PutContents writes the contents that are called by their SHA-256; dir is the data
// directory. The error is fs.ErrNotExist if they are gone.
func (w *Writer) PutContents(dir, hash string) error {
	name := path.Join(Contents, hash[:2], hash)
	if err := w.put(name, filepath.Join(dir, filepath.FromSlash(name))); err != nil {
		return err
	}
	w.end.Contents++
	return nil
}

func (w *Writer) put(name, file string) error {
	n, err := putFile(w.out, name, file)
	w.end.Bytes += n
	return err
}

// Close says that the backup is whole.
func (w *Writer) Close() error {
	if err := putJSON(w.out, endName, w.end); err != nil {
		return err
	}
	return w.out.Close()
}

func putJSON(out *tar.Writer, name string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := out.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o600, Size: int64(len(raw))}); err != nil {
		return err
	}
	_, err = io.Copy(out, bytes.NewReader(raw))
	return err
}

func putFile(out *tar.Writer, name, file string) (int64, error) {
	f, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	if err := out.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o600, Size: info.Size(),
		ModTime: info.ModTime()}); err != nil {
		return 0, err
	}
	return io.CopyN(out, f, info.Size())
}

// ErrCut means that a backup ends before its end.
var ErrCut = errors.New("the backup is cut off: make it anew")

// Read reads a backup to its end and says what it is and holds; an error if it is none
// or not whole. each may take the entries; nil passes over them.
func Read(r io.Reader, each func(name string, h *tar.Header, r io.Reader) error) (head Head, end End, err error) {
	in := tar.NewReader(r)
	var got End
	for first := true; ; first = false {
		h, err := in.Next()
		if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) {
			return head, end, ErrCut
		}
		if err != nil {
			return head, end, fmt.Errorf("this is not a backup: %w", err)
		}
		switch {
		case first:
			if h.Name != headName || decodeEntry(in, &head) != nil || head.Format == 0 {
				return head, end, errors.New("this is not a backup: pane backup makes them")
			}
			if head.Format != format {
				return head, end, fmt.Errorf("the backup has the form %d; this program reads %d", head.Format, format)
			}
			continue
		case h.Name == endName:
			if err := decodeEntry(in, &end); err != nil {
				return head, end, ErrCut
			}
			if got != end {
				return head, end, fmt.Errorf("%w: it holds %d contents and %d bytes, not %d and %d", ErrCut, got.Contents, got.Bytes,
					end.Contents, end.Bytes)
			}
			return head, end, nil
		case h.Typeflag != tar.TypeReg || !inBackup(h.Name) || sparse(h):
			return head, end, fmt.Errorf("the backup holds %.100q, which belongs into none", h.Name)
		}
		counted := &counter{r: in}
		if each != nil {
			err = each(h.Name, h, counted)
		}
		if err == nil {
			_, err = io.Copy(io.Discard, counted)
		}
		if errors.Is(err, io.ErrUnexpectedEOF) {
			return head, end, ErrCut
		}
		if err != nil {
			return head, end, err
		}
		got.Bytes += counted.n
		if h.Name != Records {
			got.Contents++
		}
	}
}

// sparse reports whether a file has holes: a small archive could unpack to any size.
func sparse(h *tar.Header) bool {
	for name := range h.PAXRecords {
		if strings.HasPrefix(name, "GNU.sparse.") {
			return true
		}
	}
	return false
}

// inBackup reports whether a name may stand in a backup: nothing else is written
// anywhere.
func inBackup(name string) bool {
	if name == Records {
		return true
	}
	rest, ok := strings.CutPrefix(name, Contents+"/")
	shelf, hash, _ := strings.Cut(rest, "/")
	return ok && blobs.ValidHash(hash) && hash[:2] == shelf
}

func decodeEntry(r io.Reader, v any) error {
	return json.NewDecoder(io.LimitReader(r, 64<<10)).Decode(v)
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// Restore puts a backup into a directory that must not hold anything. Nothing is left
// there of one that is not whole, or whose contents are not what they are called.
func Restore(r io.Reader, dir string) (head Head, end End, err error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return head, end, fmt.Errorf("%s is not empty: restore into a new directory", dir)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return head, end, err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return head, end, err
	}
	tmp, err := os.MkdirTemp(filepath.Dir(dir), filepath.Base(dir)+".restoring-")
	if err != nil {
		return head, end, err
	}
	defer os.RemoveAll(tmp)
	bl, err := blobs.Open(filepath.Join(tmp, Contents))
	if err != nil {
		return head, end, err
	}
	head, end, err = Read(r, func(name string, h *tar.Header, r io.Reader) error {
		if name != Records {
			_, err := bl.Put(path.Base(name), h.Size, r)
			return err
		}
		f, err := os.OpenFile(filepath.Join(tmp, Records), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, r)
		return errors.Join(err, f.Sync(), f.Close())
	})
	if err != nil {
		return head, end, err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return head, end, err
	}
	return head, end, os.Rename(tmp, dir)
}
