package keep

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"parallelpane/internal/api"
	"parallelpane/internal/backup"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// maxFindings bounds what a check lists of each kind; others are only counted.
const maxFindings = 100

// Check looks through the data directory of a service, which may be running: whether
// the records are whole, each run can be drawn, and the contents that records name are
// there; with contents, also whether these are what their names say. progress is told
// what is looked at; it may be nil.
func Check(ctx context.Context, dir string, contents bool, progress func(what string, n int)) (r api.DataReport, err error) {
	st, err := store.Look(dir)
	if err != nil {
		return r, err
	}
	defer func() { err = errors.Join(err, st.Leave()) }()
	if progress == nil {
		progress = func(string, int) {}
	}
	c := &check{ctx: ctx, st: st, dir: dir, r: &r, progress: progress}
	progress("records", 0)
	found, err := st.Integrity(ctx)
	for _, f := range found {
		c.wrong("the records: %s", f)
	}
	if err != nil {
		c.wrong("the records cannot be read: %v", err)
	}
	return r, errors.Join(c.runs(), c.contents(contents))
}

type check struct {
	ctx      context.Context
	st       *store.Store
	dir      string
	r        *api.DataReport
	progress func(string, int)
}

func (c *check) wrong(format string, args ...any) {
	if c.r.Wrong++; len(c.r.Findings) < maxFindings {
		c.r.Findings = append(c.r.Findings, fmt.Sprintf(format, args...))
	}
}

func (c *check) runs() error {
	for above := 0; ; {
		numbers, err := c.st.Numbers(c.ctx, above, 500)
		if err != nil {
			c.wrong("the list of runs after %d cannot be read: %v", above, err)
			return c.ctx.Err()
		}
		if len(numbers) == 0 {
			return nil
		}
		for _, n := range numbers {
			if err := c.ctx.Err(); err != nil {
				return err
			}
			if err := c.run(n); err != nil {
				c.wrong("run %d cannot be drawn: %v", n, err)
			}
			c.r.Runs++
			above = n
		}
		c.progress("runs", c.r.Runs)
	}
}

func (c *check) run(number int) error {
	row, err := c.st.RunByNumber(c.ctx, number)
	if err != nil {
		return err
	}
	w, err := c.st.WholeRun(c.ctx, number)
	if err != nil {
		return err
	}
	_, err = walls.RunOf(row, w)
	return err
}

func (c *check) contents(hashes bool) error {
	for after := ""; ; {
		all, err := c.st.Contents(c.ctx, after, 1000)
		if err != nil {
			c.wrong("the list of contents cannot be read: %v", err)
			return c.ctx.Err()
		}
		if len(all) == 0 {
			return nil
		}
		for _, hash := range all {
			if err := c.ctx.Err(); err != nil {
				return err
			}
			c.content(hash, hashes)
			after = hash
		}
		c.progress("contents", c.r.Contents)
	}
}

func (c *check) content(hash string, hashes bool) {
	if len(hash) < 2 {
		c.wrong("the records name the contents %q", hash)
		return
	}
	c.r.Contents++
	f, err := os.Open(filepath.Join(c.dir, backup.Contents, hash[:2], hash))
	if errors.Is(err, fs.ErrNotExist) {
		c.r.Gone++
		if len(c.r.Missing) < maxFindings {
			c.r.Missing = append(c.r.Missing, hash)
		}
		return
	}
	if err != nil {
		c.wrong("the contents %s cannot be read: %v", hash, err)
		return
	}
	defer f.Close()
	if !hashes {
		return
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		c.wrong("the contents %s cannot be read: %v", hash, err)
	} else if hex.EncodeToString(sum.Sum(nil)) != hash {
		c.wrong("the contents %s are others than their name says", hash)
	}
}
