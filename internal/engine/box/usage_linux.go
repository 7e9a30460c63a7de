package box

import (
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Usage adds up what the box's processes have for themselves, and its directory.
func (b *enclosed) Usage() (u Usage) {
	if b.wrap != nil {
		u.Memory = resident(b.wrap.PID())
	}
	// What vanishes while it is counted does not count.
	_ = filepath.WalkDir(b.dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if info, err := d.Info(); err == nil {
				u.Disk += info.Size()
			}
		}
		return nil
	})
	return u
}

// resident is how many bytes a process and all that it has started have in memory
// and share with nobody.
func resident(pid int) (bytes int64) {
	dir := "/proc/" + strconv.Itoa(pid)
	if raw, err := os.ReadFile(dir + "/statm"); err == nil { // pages: size resident shared …
		if f := strings.Fields(string(raw)); len(f) > 2 {
			all, _ := strconv.ParseInt(f[1], 10, 64)
			shared, _ := strconv.ParseInt(f[2], 10, 64)
			bytes = (all - shared) * int64(os.Getpagesize())
		}
	}
	tasks, _ := filepath.Glob(dir + "/task/*/children")
	for _, file := range tasks {
		raw, _ := os.ReadFile(file)
		for _, child := range strings.Fields(string(raw)) {
			if n, err := strconv.Atoi(child); err == nil {
				bytes += resident(n)
			}
		}
	}
	return bytes
}
