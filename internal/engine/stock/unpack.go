package stock

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Limits of one installation.
const (
	MaxArchive  = 1 << 30 // bytes of one archive
	maxUnpacked = 4 << 30 // bytes of all files together
	maxFiles    = 100_000
	maxDepth    = 40
)

// Bad says what is wrong with an archive: whoever brought it must bring another.
type Bad struct {
	Archive string
	Why     string
}

func (e *Bad) Error() string { return e.Archive + ": " + e.Why }

// unpacker puts the files of archives into a directory that nothing of theirs leaves.
type unpacker struct {
	root  *os.Root
	name  string // of the archive at hand
	bytes int64
	files int
	links [][2]string // made last, so that nothing is written through one
}

func (u *unpacker) bad(format string, args ...any) error {
	return &Bad{u.name, fmt.Sprintf(format, args...)}
}

// archive unpacks one archive or copies one directory.
func (u *unpacker) archive(ctx context.Context, file string) error {
	u.name = filepath.Base(file)
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	if info.IsDir() {
		return u.directory(ctx, file)
	}
	if info.Size() > MaxArchive {
		return u.bad("it has %d bytes; at most %d are unpacked", info.Size(), int64(MaxArchive))
	}
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 8)
	n, _ := io.ReadFull(f, head)
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	switch head = head[:n]; {
	case bytes.HasPrefix(head, []byte("!<arch>\n")):
		return u.deb(ctx, f)
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return u.zip(ctx, f, info.Size())
	}
	return u.compressed(ctx, bufio.NewReaderSize(f, 1<<16), false)
}

// compressed unpacks a tar archive by what its compression begins with.
func (u *unpacker) compressed(ctx context.Context, r *bufio.Reader, pkg bool) error {
	head, _ := r.Peek(6)
	var in io.Reader
	var err error
	switch {
	case bytes.HasPrefix(head, []byte("\x1f\x8b")):
		in, err = gzip.NewReader(r)
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		in, err = xz.ReaderConfig{DictCap: 64 << 20}.NewReader(r)
	case bytes.HasPrefix(head, []byte("\x28\xb5\x2f\xfd")):
		var z *zstd.Decoder
		if z, err = zstd.NewReader(r, zstd.WithDecoderMaxMemory(256<<20)); err == nil {
			defer z.Close()
			in = z
		}
	default:
		return u.bad("it is no archive that can be unpacked: .deb, .tar.xz, .tar.gz, .tar.zst or .zip")
	}
	if err != nil {
		return u.bad("it is damaged: %v", err)
	}
	return u.tar(ctx, in, pkg)
}

// deb unpacks the files of a Debian package (deb(5)): an archive of ar(5), whose members
// have heads of 60 bytes and begin at even places.
func (u *unpacker) deb(ctx context.Context, f io.Reader) error {
	in := bufio.NewReaderSize(f, 1<<16)
	_, _ = in.Discard(len("!<arch>\n"))
	head := make([]byte, 60)
	for {
		if _, err := io.ReadFull(in, head); err == io.EOF {
			return u.bad("it is no Debian package: it has no data")
		} else if err != nil {
			return u.bad("it is damaged: %v", err)
		}
		size, err := strconv.ParseInt(strings.TrimSpace(string(head[48:58])), 10, 64)
		if err != nil || size < 0 || size > MaxArchive || string(head[58:]) != "`\n" {
			return u.bad("it is damaged: a member has no head")
		}
		if strings.HasPrefix(string(head), "data.tar") {
			return u.compressed(ctx, bufio.NewReaderSize(io.LimitReader(in, size), 1<<16), true)
		}
		if _, err := io.CopyN(io.Discard, in, size+size%2); err != nil {
			return u.bad("it is damaged: %v", err)
		}
	}
}

// tar unpacks a tar archive. Links of a package are such as they are where a system has
// it installed: absolute ones mean the package's own files.
func (u *unpacker) tar(ctx context.Context, r io.Reader, pkg bool) error {
	in := tar.NewReader(r)
	for {
		h, err := in.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return u.bad("it is damaged: %v", err)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = u.dir(h.Name)
		case tar.TypeReg:
			if h.PAXRecords["GNU.sparse.major"] != "" {
				return u.bad("%.100q has holes", h.Name)
			}
			err = u.file(h.Name, h.FileInfo().Mode(), in)
		case tar.TypeSymlink:
			to := h.Linkname
			if pkg && path.IsAbs(to) {
				to = strings.Repeat("../", strings.Count(path.Clean(strings.TrimPrefix(h.Name, "./")), "/")) + strings.TrimPrefix(to, "/")
			}
			err = u.link(h.Name, to)
		case tar.TypeLink:
			err = u.hardLink(h.Name, h.Linkname)
		case tar.TypeXGlobalHeader:
		default:
			err = u.bad("%.100q is neither a file nor a directory nor a link", h.Name)
		}
		if err != nil {
			return err
		}
	}
}

func (u *unpacker) zip(ctx context.Context, f io.ReaderAt, size int64) error {
	in, err := zip.NewReader(f, size)
	if err != nil {
		return u.bad("it is damaged: %v", err)
	}
	for _, e := range in.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		r, err := e.Open()
		if err != nil {
			return u.bad("%.100q is damaged: %v", e.Name, err)
		}
		switch mode := e.Mode(); {
		case mode.IsDir():
			err = u.dir(e.Name)
		case mode&fs.ModeSymlink != 0:
			var to []byte
			if to, err = io.ReadAll(io.LimitReader(r, 4096)); err == nil {
				err = u.link(e.Name, string(to))
			}
		case mode.IsRegular():
			err = u.file(e.Name, mode, r)
		default:
			err = u.bad("%.100q is neither a file nor a directory nor a link", e.Name)
		}
		if err = errors.Join(err, r.Close()); err != nil {
			return err
		}
	}
	return nil
}

// directory copies what lies in a directory.
func (u *unpacker) directory(ctx context.Context, dir string) error {
	return filepath.WalkDir(dir, func(file string, e fs.DirEntry, err error) error {
		if err = errors.Join(err, ctx.Err()); err != nil || file == dir {
			return err
		}
		name, err := filepath.Rel(dir, file)
		if err != nil {
			return err
		}
		name = filepath.ToSlash(name)
		switch {
		case e.IsDir():
			return u.dir(name)
		case e.Type()&fs.ModeSymlink != 0:
			to, err := os.Readlink(file)
			if err != nil {
				return err
			}
			return u.link(name, filepath.ToSlash(to))
		case e.Type().IsRegular():
			f, err := os.Open(file)
			if err != nil {
				return err
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			return u.file(name, info.Mode(), f)
		}
		return u.bad("%.100q is neither a file nor a directory nor a link", name)
	})
}

// clean is the place of an entry in the directory.
func (u *unpacker) clean(name string) (string, error) {
	if u.files++; u.files > maxFiles {
		return "", u.bad("it holds more than %d files", maxFiles)
	}
	clean := path.Clean("/" + strings.ReplaceAll(name, `\`, "/"))[1:]
	if strings.HasPrefix(name, "/") || strings.HasPrefix(path.Clean(name), "..") {
		return "", u.bad("%.100q leads out of it", name)
	}
	if strings.Count(clean, "/") > maxDepth || len(clean) > 1000 {
		return "", u.bad("%.100q lies too deep", name)
	}
	return filepath.FromSlash(clean), nil
}

func (u *unpacker) dir(name string) error {
	at, err := u.clean(name)
	if err != nil || at == "" {
		return err
	}
	return u.put(u.root.MkdirAll(at, 0o755), name)
}

// put says whose entry an error of the file system is about.
func (u *unpacker) put(err error, name string) error {
	if err != nil {
		err = fmt.Errorf("%s: %.100q: %w", u.name, name, err)
	}
	return err
}

func (u *unpacker) file(name string, mode fs.FileMode, r io.Reader) error {
	at, err := u.clean(name)
	if err != nil || at == "" {
		return err
	}
	if err := u.root.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return u.put(err, name)
	}
	perm := fs.FileMode(0o644)
	if mode&0o111 != 0 {
		perm = 0o755
	}
	_ = u.root.Remove(at) // of an earlier archive
	f, err := u.root.OpenFile(at, os.O_CREATE|os.O_EXCL|os.O_WRONLY, perm)
	if err != nil {
		return u.put(err, name)
	}
	n, err := io.Copy(f, io.LimitReader(r, maxUnpacked-u.bytes+1))
	u.bytes += n
	if closed := f.Close(); err == nil && closed != nil {
		return u.put(closed, name)
	}
	var full *fs.PathError
	switch {
	case u.bytes > maxUnpacked:
		return u.bad("it unpacks to more than %d bytes", int64(maxUnpacked))
	case errors.As(err, &full):
		return u.put(err, name)
	case err != nil:
		return u.bad("%.100q is damaged: %v", name, err)
	}
	return nil
}

// link notes a link; it must end in the directory.
func (u *unpacker) link(name, to string) error {
	at, err := u.clean(name)
	if err != nil || at == "" {
		return err
	}
	if path.IsAbs(to) || filepath.VolumeName(to) != "" || strings.HasPrefix(path.Join(path.Dir(filepath.ToSlash(at)), to), "..") {
		return u.bad("the link %.100q leads out of it, to %.100q", name, to)
	}
	u.links = append(u.links, [2]string{at, to})
	return nil
}

// hardLink copies a file that has two names.
func (u *unpacker) hardLink(name, of string) error {
	from, err := u.clean(of)
	if err != nil {
		return err
	}
	f, err := u.root.Open(from)
	if err != nil {
		return u.bad("the link %.100q leads to %.100q, which is not there", name, of)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return u.bad("the link %.100q leads to %.100q, which is no file", name, of)
	}
	return u.file(name, info.Mode(), f)
}

// tie makes the links, when every file is there.
func (u *unpacker) tie() error {
	for _, l := range u.links {
		if err := u.root.MkdirAll(filepath.Dir(l[0]), 0o755); err != nil {
			return err
		}
		_ = u.root.Remove(l[0])
		if err := u.root.Symlink(l[1], l[0]); errors.Is(err, fs.ErrExist) {
			return u.bad("the link %.100q cannot be made: something else lies there", l[0])
		} else if err != nil {
			return err
		}
	}
	return nil
}
