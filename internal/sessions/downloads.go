package sessions

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"parallelpane/internal/core/record"
	"parallelpane/internal/engine"
	"parallelpane/internal/recording"
)

// Bounds of what is kept of downloads.
const (
	maxDownloads     = 50
	maxDownloadBytes = 256 << 20 // together
)

// unfinished end the names of files that a browser is still saving.
var unfinished = []string{".crdownload", ".part", ".tmp"}

// downloads keeps what pages had the browser save. Whatever runs in the session may have
// put anything there: links lead nowhere outside the session's home, and only regular
// files are read.
func (x *ending) downloads() {
	r := x.r
	if !r.policy.Keeps(record.Downloads, x.verdict) {
		return
	}
	home, err := os.OpenRoot(r.s.home())
	if err != nil {
		return // the session is gone, and its home with it
	}
	defer home.Close()
	entries, err := fs.ReadDir(home.FS(), engine.Downloads)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	if err != nil {
		r.lack(record.Downloads, err.Error())
		return
	}
	left, names := int64(maxDownloadBytes), map[string]bool{}
	for _, e := range entries {
		if !e.Type().IsRegular() {
			continue
		}
		name := downloadName(e.Name(), names)
		switch {
		case hasSuffix(e.Name(), unfinished):
			r.lack(record.Downloads, fmt.Sprintf("%.80q was not saved to its end", e.Name()))
			continue
		case len(names) > maxDownloads:
			r.lack(record.Downloads, fmt.Sprintf("files beyond the first %d", maxDownloads))
			return
		}
		n, err := copyOut(home, path.Join(engine.Downloads, e.Name()), filepath.Join(r.dir, name), left)
		if err != nil {
			r.lack(record.Downloads, fmt.Sprintf("%.80q: %v", e.Name(), err))
			continue
		}
		left -= n
		x.keep(name)
	}
}

// Saved lists the files that pages had the browser save, to their ends.
func (s *Session) Saved(context.Context) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(s.home(), engine.Downloads))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, e := range entries {
		if e.Type().IsRegular() && !hasSuffix(e.Name(), unfinished) {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// forgetSaved removes what was saved in an earlier test.
func (s *Session) forgetSaved() error {
	home, err := os.OpenRoot(s.home())
	if err != nil {
		return err
	}
	defer home.Close()
	names, err := s.Saved(context.Background())
	for _, name := range names {
		err = errors.Join(err, home.Remove(path.Join(engine.Downloads, name)))
	}
	return err
}

func hasSuffix(name string, any []string) bool {
	for _, s := range any {
		if strings.HasSuffix(name, s) {
			return true
		}
	}
	return false
}

// downloadName is the name that a download has among the files of its session.
func downloadName(saved string, taken map[string]bool) string {
	safe := strings.Map(func(r rune) rune {
		if r < 128 && (r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("._-", r)) {
			return r
		}
		return '-'
	}, saved)
	if len(safe) > 60 {
		safe = safe[len(safe)-60:]
	}
	ext := path.Ext(safe)
	name := recording.DownloadPrefix + safe
	for n := 2; taken[name]; n++ {
		name = fmt.Sprintf("%s%s-%d%s", recording.DownloadPrefix, strings.TrimSuffix(safe, ext), n, ext)
	}
	taken[name] = true
	return name
}

// errLarge means that a download does not fit in what is kept of a session's.
var errLarge = fmt.Errorf("it is too large: at most %d MiB are kept of a session's downloads", maxDownloadBytes>>20)

// copyOut copies a regular file out of a session's home, if it has at most so many bytes.
func copyOut(home *os.Root, from, to string, most int64) (int64, error) {
	in, err := home.OpenFile(from, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return 0, err
	}
	if !info.Mode().IsRegular() {
		return 0, errors.New("it is no file")
	}
	if info.Size() > most {
		return 0, errLarge
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(out, io.LimitReader(in, most+1))
	if err == nil && n > most {
		err = errLarge
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return 0, errors.Join(err, os.Remove(to))
	}
	return n, nil
}
