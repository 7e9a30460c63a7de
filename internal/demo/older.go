package demo

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/shirou/gopsutil/v4/disk"
)

// Older is a browser that the system's packages offer in an older version than the one
// that is installed.
type Older struct {
	Name     string   // what people call it
	Archives []string // paths
}

// older are the packages that together are one installation, the browser's first.
var older = []struct {
	title    string
	packages []string
}{
	{"Chromium", []string{"chromium", "chromium-common", "chromium-driver"}},
	{"Firefox ESR", []string{"firefox-esr"}},
}

// roomForOlder must be free for them: archives here and in the service, unpacked by an agent.
const roomForOlder = 4 << 30

// FetchOlder downloads the packages of older browsers into a directory without installing
// them. Where Debian has none, or the disk no room, there are none; tell hears of each.
func FetchOlder(ctx context.Context, dir string, tell func(string)) (out []Older, err error) {
	if _, err := exec.LookPath("apt-get"); err != nil {
		return nil, nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if u, err := disk.Usage(dir); err == nil && u.Free < roomForOlder {
		tell("no room for older browsers")
		return nil, nil
	}
	for _, o := range older {
		version := olderVersion(ctx, o.packages[0])
		if version == "" {
			continue
		}
		found := Older{Name: o.title + " " + strings.TrimSuffix(strings.SplitN(version, "-", 2)[0], "esr")}
		args := []string{"download", "-qq"}
		for _, p := range o.packages {
			args = append(args, p+"="+version)
		}
		have := func() (files []string) {
			for _, p := range o.packages {
				match, _ := filepath.Glob(filepath.Join(dir, p+"_"+strings.ReplaceAll(version, ":", "%3a")+"_*.deb"))
				files = append(files, match...)
			}
			return files
		}
		if found.Archives = have(); len(found.Archives) < len(o.packages) {
			tell("fetching " + found.Name)
			cmd := exec.CommandContext(ctx, "apt-get", args...)
			cmd.Dir = dir
			if said, err := cmd.CombinedOutput(); err != nil {
				return out, fmt.Errorf("fetch %s: %w: %.300s", found.Name, err, bytes.TrimSpace(said))
			}
			found.Archives = have()
		}
		if len(found.Archives) == len(o.packages) {
			out = append(out, found)
		}
	}
	return out, nil
}

// olderVersion is the oldest version of a package that can be had, unless it is the one
// that is installed; "" for none.
func olderVersion(ctx context.Context, name string) string {
	raw, err := exec.CommandContext(ctx, "apt-cache", "madison", name).Output()
	if err != nil {
		return ""
	}
	var versions []string
	for line := range strings.Lines(string(raw)) { // the newest first
		if parts := strings.Split(line, "|"); len(parts) == 3 && !slices.Contains(versions, strings.TrimSpace(parts[1])) {
			versions = append(versions, strings.TrimSpace(parts[1]))
		}
	}
	installed, _ := exec.CommandContext(ctx, "dpkg-query", "-W", "-f", "${Version}", name).Output()
	if len(versions) < 2 || versions[len(versions)-1] == string(installed) {
		return ""
	}
	return versions[len(versions)-1]
}
