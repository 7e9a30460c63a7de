package gecko

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"parallelpane/internal/engine"
)

// Limits of a profile that a session brings along.
const (
	maxProfileBytes = 256 << 20 // unpacked
	maxProfileFiles = 20_000
)

// agentsFiles are the files of a profile that are the agent's: where it finds the
// browser, and which programs and libraries of the machine the browser uses.
var agentsFiles = []string{"marionetteactiveport", "lock", ".parentlock", "parent.lock", "handlers.json", "mimetypes.rdf", "pkcs11.txt",
	"secmod.db", "webdriverbidiserver.json"}

func badProfile(format string, args ...any) error {
	return &engine.Refused{Why: vendor.Key + ": profile: " + fmt.Sprintf(format, args...)}
}

// readProfile reads the value of "profile": a directory as a ZIP archive in
// base64.
func readProfile(value any) (*zip.Reader, error) {
	text, ok := value.(string)
	if !ok {
		return nil, badProfile("expected a ZIP archive in base64")
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, badProfile("expected a ZIP archive in base64: %v", err)
	}
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return nil, badProfile("not a ZIP archive: %v", err)
	}
	if len(z.File) > maxProfileFiles {
		return nil, badProfile("%d files, at most %d", len(z.File), maxProfileFiles)
	}
	size := uint64(0)
	for _, f := range z.File {
		name := strings.TrimSuffix(f.Name, "/")
		if !filepath.IsLocal(filepath.FromSlash(name)) || strings.Contains(name, `\`) {
			return nil, badProfile("%q leads out of it", f.Name)
		}
		if mode := f.Mode(); !mode.IsRegular() && !mode.IsDir() {
			return nil, badProfile("%q is neither a file nor a directory", f.Name)
		}
		if size += f.UncompressedSize64; size > maxProfileBytes {
			return nil, badProfile("larger than %d MiB", maxProfileBytes>>20)
		}
	}
	return z, nil
}

// unpack writes a profile into a directory, without what is the agent's.
func unpack(z *zip.Reader, dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	left := int64(maxProfileBytes)
	for _, f := range z.File {
		name := filepath.FromSlash(strings.TrimSuffix(f.Name, "/"))
		if f.Mode().IsDir() {
			if err := root.MkdirAll(name, 0o700); err != nil {
				return err
			}
			continue
		}
		if slices.Contains(agentsFiles, strings.ToLower(path.Clean(f.Name))) {
			continue
		}
		if err := root.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			return err
		}
		n, err := unpackFile(root, f, name, left)
		if errors.Is(err, zip.ErrChecksum) || errors.Is(err, zip.ErrFormat) || errors.Is(err, io.ErrUnexpectedEOF) {
			return badProfile("%q: %v", f.Name, err)
		}
		if err != nil {
			return err
		}
		if left -= n; left < 0 { // the archive said that it was less
			return badProfile("larger than %d MiB", maxProfileBytes>>20)
		}
	}
	return nil
}

func unpackFile(root *os.Root, f *zip.File, name string, limit int64) (int64, error) {
	from, err := f.Open()
	if err != nil {
		return 0, err
	}
	defer from.Close()
	to, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(to, io.LimitReader(from, limit+1))
	return n, errors.Join(err, to.Close())
}

var prefLine = regexp.MustCompile(`^\s*user_pref\(\s*"([^"\\]+)"\s*,.*\)\s*;\s*$`)

// theirPrefs are the preferences of a profile that was unpacked, as far as sessions
// may set them: a profile holds many that nobody asked for.
func theirPrefs(dir string, allow engine.Names) (lines []string, err error) {
	raw, err := os.ReadFile(filepath.Join(dir, "user.js"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for l := range strings.Lines(string(raw)) {
		// Nothing that could swallow the lines after it.
		if m := prefLine.FindStringSubmatch(l); m != nil && (vendor.Prefs.Hold(m[1]) || allow.Hold(m[1])) {
			lines = append(lines, strings.TrimSpace(l))
		}
	}
	return lines, err
}
