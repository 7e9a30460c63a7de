package project

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
)

// Copy copies a tree of directories, files and links to a directory that there is not yet.
// It takes as many files at once as there are processors, twice over: what it costs is
// mostly waiting for the file system.
func Copy(from, to string) error {
	if err := os.Mkdir(to, 0o755); err != nil {
		return err
	}
	type file struct{ path, to string }
	files := make(chan file, 256)
	var mu sync.Mutex
	var wrong error
	fail := func(err error) {
		mu.Lock()
		wrong = errors.Join(wrong, err)
		mu.Unlock()
	}
	failed := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return wrong != nil
	}
	var work sync.WaitGroup
	for range 2 * runtime.GOMAXPROCS(0) {
		work.Go(func() {
			for f := range files {
				if !failed() {
					if err := copyFile(f.path, f.to); err != nil {
						fail(err)
					}
				}
			}
		})
	}
	err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		rel, relErr := filepath.Rel(from, path)
		if err := errors.Join(err, relErr); err != nil || rel == "." {
			return err
		}
		at := filepath.Join(to, rel)
		switch {
		case d.IsDir():
			return os.Mkdir(at, 0o755)
		case d.Type() == fs.ModeSymlink:
			target, err := os.Readlink(path)
			if err != nil {
				return err
			}
			return os.Symlink(target, at)
		case !d.Type().IsRegular():
			return nil // sockets and pipes are of whoever made them
		}
		files <- file{path, at}
		return nil
	})
	close(files)
	work.Wait()
	return errors.Join(err, wrong)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, info.Mode().Perm()|0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
