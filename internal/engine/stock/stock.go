// Package stock keeps the browsers of an agent that belong to no package of its system:
// a directory with a folder for each installation. It unpacks archives into it, without
// rights of a superuser, and takes installations away.
package stock

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine/find"
)

// coming are called the folders that are not whole yet: nobody looks into one.
const coming = ".coming-"

// Added is an installation that was unpacked.
type Added struct {
	Folder  string         `json:"folder"`
	Bytes   int64          `json:"bytes"`
	Browser *fleet.Browser `json:"browser"` // null in an archive of a driver alone
	Driver  *fleet.Driver  `json:"driver"`  // null where there is none
}

// Name calls an installation by what is in it.
func (a Added) Name() string {
	if a.Browser != nil {
		return a.Browser.Name + " " + a.Browser.Version
	}
	return a.Driver.Name + " " + a.Driver.Version
}

// Add unpacks archives that together are one installation into a folder of the machine's
// own directory. name calls the folder; "" takes what is in it. Nothing stays of what is
// no browser or driver for this machine: the error is then a *Bad.
func Add(ctx context.Context, m find.Machine, name string, archives ...string) (a Added, err error) {
	if len(archives) == 0 {
		return a, errors.New("no archive is named")
	}
	if err := os.MkdirAll(m.Own[0], 0o755); err != nil {
		return a, fmt.Errorf("directory of browsers: %w", err)
	}
	if err := sweep(m, time.Hour); err != nil { // what somebody else who was killed left there
		return a, fmt.Errorf("directory of browsers: %w", err)
	}
	tmp, err := os.MkdirTemp(m.Own[0], coming)
	if err != nil {
		return a, fmt.Errorf("directory of browsers: %w", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(tmp))
		}
	}()
	root, err := os.OpenRoot(tmp)
	if err != nil {
		return a, err
	}
	defer root.Close()
	u := unpacker{root: root}
	for _, file := range archives {
		if err = u.archive(ctx, file); err != nil {
			return a, err
		}
	}
	if err = errors.Join(u.tie(), os.Chmod(tmp, 0o755)); err != nil {
		return a, err
	}
	whole := strings.Join(names(archives), " + ")
	if a, err = inspect(ctx, m, tmp); err != nil {
		return a, &Bad{whole, err.Error()}
	}
	if a.Bytes = u.bytes; name == "" {
		name = unnamed.ReplaceAllString(strings.ReplaceAll(a.Name(), " ", "-"), "_")
	}
	if _, err = os.Stat(filepath.Join(m.Own[0], name)); err == nil {
		err = fmt.Errorf("%s is there already: take it away first with pane browsers drop --here %s", name, name)
		return a, err
	}
	a.Folder = name
	if err = os.Rename(tmp, filepath.Join(m.Own[0], name)); err != nil {
		return a, err
	}
	a.moved(tmp, filepath.Join(m.Own[0], name))
	return a, nil
}

var unnamed = regexp.MustCompile(`[^a-zA-Z0-9._-]+`)

func names(files []string) (out []string) {
	for _, f := range files {
		out = append(out, filepath.Base(f))
	}
	return out
}

func (a *Added) moved(from, to string) {
	move := func(path string) string { return to + strings.TrimPrefix(path, from) }
	if a.Browser != nil {
		a.Browser.Path = move(a.Browser.Path)
	}
	if a.Driver != nil {
		a.Driver.Path = move(a.Driver.Path)
	}
}

// inspect says what is in a folder.
func inspect(ctx context.Context, m find.Machine, folder string) (a Added, err error) {
	f := m.Within(ctx, folder)
	for i := range f.Browsers {
		a.Browser = &f.Browsers[i]
		if a.Browser.Problem != "" {
			return a, fmt.Errorf("%s in it cannot be used: %s", a.Browser.Name, a.Browser.Problem)
		}
	}
	for i := range f.Drivers {
		if d := &f.Drivers[i]; d.Problem != "" {
			return a, fmt.Errorf("%s in it cannot be used: %s", d.Name, d.Problem)
		} else if a.Driver == nil || a.Browser != nil && d.Name == fleet.DriverOf(a.Browser.Name) {
			a.Driver = d
		}
	}
	if a.Browser == nil && a.Driver == nil {
		return a, fmt.Errorf("there is no browser and no driver for %s in it", m.OS)
	}
	return a, nil
}

// Drop takes an installation away. It is an error of fs.ErrNotExist if there is none.
func Drop(m find.Machine, name string) error {
	if name == "" || strings.ContainsAny(name, `/\`) || strings.HasPrefix(name, ".") {
		return fmt.Errorf("%q is no folder of %s", name, m.Own[0])
	}
	from := filepath.Join(m.Own[0], name)
	if info, err := os.Lstat(from); err != nil || !info.IsDir() {
		return fmt.Errorf("%s has no folder %q: %w", m.Own[0], name, fs.ErrNotExist)
	}
	gone := filepath.Join(m.Own[0], coming+"gone-"+name)
	return errors.Join(os.RemoveAll(gone), os.Rename(from, gone), os.RemoveAll(gone))
}

// Sweep removes what somebody who was killed had half unpacked or half taken away. Nobody
// else may be at work in the directory.
func Sweep(m find.Machine) error { return sweep(m, 0) }

func sweep(m find.Machine, older time.Duration) error {
	left, err := filepath.Glob(filepath.Join(m.Own[0], coming+"*"))
	for _, dir := range left {
		if info, statErr := os.Stat(dir); statErr == nil && time.Since(info.ModTime()) >= older {
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}
	return err
}

// Folders lists the installations of the machine's own directory.
func Folders(ctx context.Context, m find.Machine) (out []Added, err error) {
	entries, err := os.ReadDir(m.Own[0])
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		a, _ := inspect(ctx, m, filepath.Join(m.Own[0], e.Name())) // what is wrong with it, Look says
		a.Folder = e.Name()
		out = append(out, a)
	}
	return out, err
}
