package find

import (
	"bufio"
	"context"
	"debug/elf"
	"debug/macho"
	"debug/pe"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"howett.net/plist"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/engine/process"
)

// reading is what an installation says of itself.
type reading struct {
	Name    string `json:"name,omitempty"` // the browser that it calls itself, where it says so
	Version string `json:"version,omitempty"`
	Channel string `json:"channel,omitempty"`
	Arch    string `json:"arch,omitempty"`
	Problem string `json:"problem,omitempty"`
}

var versionPattern = regexp.MustCompile(`(\d+(?:\.\d+)+)(esr|[ab]\d+)?`)

// read asks an installation, without starting it where its files tell.
func read(ctx context.Context, m Machine, c candidate) (r reading) {
	r.Arch = archOf(c.path, m.Arch)
	if r.Arch != "" && r.Arch != m.Arch {
		if c.product != nil {
			r.fromFiles(m, c)
		}
		return r
	}
	if c.program != nil && c.program.Silent {
		return r
	}
	if c.product != nil && r.fromFiles(m, c) {
		return r
	}
	said, err := m.Run(ctx, c.path, c.product != nil && c.product.Bare, "--version")
	found := versionPattern.FindStringSubmatch(said)
	switch {
	case found != nil:
		r.Version = found[1]
		r.Channel = cmpChannel(channelOf(found[2]), said)
		if c.product != nil && c.product.Engine == "chromium" {
			r.Name = calls(said)
		}
	case err != nil:
		r.Problem = fmt.Sprintf("it does not say its version: %v", err)
	default:
		r.Problem = "it does not say its version"
	}
	return r
}

// calls is the browser that says something, by its own name for itself.
func calls(said string) string {
	for title, name := range map[string]string{"Chromium ": "chromium", "Google Chrome ": "chrome", "Microsoft Edge ": "edge",
		"Opera ": "opera"} {
		if strings.HasPrefix(strings.TrimSpace(said), title) {
			return name
		}
	}
	return ""
}

// channelOf is the channel that the letters at the end of a version mean.
func channelOf(suffix string) string {
	switch {
	case suffix == "esr":
		return "esr"
	case strings.HasPrefix(suffix, "a"):
		return "nightly"
	case strings.HasPrefix(suffix, "b"):
		return "beta"
	}
	return ""
}

func cmpChannel(known, said string) string {
	if known != "" {
		return known
	}
	for _, word := range strings.Fields(strings.ToLower(said)) {
		if word == "unstable" {
			return "dev"
		}
		if word != "stable" && slices.Contains(combo.Channels, word) {
			return word
		}
	}
	return ""
}

// fromFiles reads the version from the files of an installation; false when none tells.
func (r *reading) fromFiles(m Machine, c candidate) bool {
	dir := filepath.Dir(c.path)
	switch {
	case c.product.Engine == "gecko":
		if m.OS == "darwin" {
			dir = filepath.Join(filepath.Dir(dir), "Resources")
		}
		r.fromINI(filepath.Join(dir, "application.ini"))
		if r.Channel == "" {
			r.Channel = updates(filepath.Join(dir, "defaults", "pref", "channel-prefs.js"))
		}
	case m.OS == "darwin":
		r.fromPlist(filepath.Join(filepath.Dir(dir), "Info.plist"))
	case m.OS == "windows":
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			if e.IsDir() && versionPattern.FindString(e.Name()) == e.Name() && combo.CompareVersions(e.Name(), r.Version) > 0 {
				r.Version = e.Name()
			}
		}
	}
	return r.Version != ""
}

var iniLine = regexp.MustCompile(`(?m)^Version=(\d+(?:\.\d+)*)(esr|[ab]\d+)?\s*$`)

// fromINI reads the description that Firefox lies beside.
func (r *reading) fromINI(file string) {
	raw, err := readSmall(file)
	if found := iniLine.FindSubmatch(raw); err == nil && found != nil {
		r.Version, r.Channel = string(found[1]), channelOf(string(found[2]))
		if r.Channel == "" && strings.Contains(string(raw), "mozilla-esr") {
			r.Channel = "esr"
		}
	}
}

var updateLine = regexp.MustCompile(`pref\("app\.update\.channel",\s*"([a-z]+)`)

// updates is the channel of updates that Firefox is told to follow.
func updates(file string) string {
	raw, err := readSmall(file)
	found := updateLine.FindSubmatch(raw)
	if err != nil || found == nil {
		return ""
	}
	names := map[string]string{"release": "stable", "esr": "esr", "beta": "beta", "aurora": "dev", "nightly": "nightly"}
	return names[string(found[1])]
}

func (r *reading) fromPlist(file string) {
	raw, err := readSmall(file)
	var info struct {
		Version string `plist:"CFBundleShortVersionString"`
	}
	if err != nil {
		return
	}
	if _, err := plist.Unmarshal(raw, &info); err == nil {
		r.Version = versionPattern.FindString(info.Version)
		if r.Version == "" {
			r.Version = info.Version
		}
	}
}

// readSmall reads a file of at most 1 MB.
func readSmall(file string) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, 1<<20))
}

// archOf reads which processor a program is for; "" of a script, and wanted of one for
// several of which that is one.
func archOf(path, wanted string) string {
	if f, err := elf.Open(path); err == nil {
		defer f.Close()
		return map[elf.Machine]string{elf.EM_X86_64: "amd64", elf.EM_AARCH64: "arm64", elf.EM_386: "386", elf.EM_ARM: "arm",
			elf.EM_RISCV: "riscv64"}[f.Machine]
	}
	mach := map[macho.Cpu]string{macho.CpuAmd64: "amd64", macho.CpuArm64: "arm64"}
	if f, err := macho.Open(path); err == nil {
		defer f.Close()
		return mach[f.Cpu]
	}
	if f, err := macho.OpenFat(path); err == nil {
		defer f.Close()
		last := ""
		for _, a := range f.Arches {
			if last = mach[a.Cpu]; last == wanted {
				return wanted
			}
		}
		return last
	}
	if f, err := pe.Open(path); err == nil {
		defer f.Close()
		return map[uint16]string{pe.IMAGE_FILE_MACHINE_AMD64: "amd64", pe.IMAGE_FILE_MACHINE_ARM64: "arm64",
			pe.IMAGE_FILE_MACHINE_I386: "386"}[f.Machine]
	}
	return ""
}

// run asks a program on this machine.
func run(ctx context.Context, path string, display bool, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Env = process.Inherited()
	cmd.WaitDelay = time.Second
	if display {
		d, err := process.StartDisplay(ctx, process.Start, 640, 480)
		if err != nil {
			return "", err
		}
		defer d.Stop(0)
		cmd.Env = append(cmd.Env, "DISPLAY="+d.Name)
	}
	var out strings.Builder
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := cmd.Start(); err != nil {
		return "", err
	}
	_, err = io.Copy(&out, io.LimitReader(bufio.NewReader(pipe), 4<<10))
	if waited := cmd.Wait(); ctx.Err() != nil {
		err = errors.New("it did not answer within 10 s")
	} else if err == nil {
		err = waited
	}
	return out.String(), err
}

// cache holds what was read of each installation, by path, size and time of change.
type cache struct {
	file string
	mu   sync.Mutex
	all  map[string]entry
	anew bool
}

type entry struct {
	Stamp string  `json:"stamp"`
	Read  reading `json:"read"`
}

func openCache(file string) *cache {
	c := &cache{file: file, all: map[string]entry{}}
	if raw, err := os.ReadFile(file); file != "" && err == nil {
		if json.Unmarshal(raw, &c.all) != nil {
			c.all = map[string]entry{}
		}
	}
	return c
}

func stampOf(m Machine, c candidate) string {
	var out []string
	files := []string{c.path}
	if c.stamp != "" {
		files = append(files, m.Root+c.stamp)
	}
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			out = append(out, fmt.Sprintf("%d bytes of %d", info.Size(), info.ModTime().UnixNano()))
		}
	}
	return strings.Join(out, ", ")
}

func (k *cache) read(ctx context.Context, m Machine, c candidate) reading {
	stamp := stampOf(m, c)
	k.mu.Lock()
	e, known := k.all[c.path]
	k.mu.Unlock()
	if known && e.Stamp == stamp && e.Read.Problem == "" {
		return e.Read
	}
	r := read(ctx, m, c)
	k.mu.Lock()
	defer k.mu.Unlock()
	k.all[c.path], k.anew = entry{stamp, r}, true
	return r
}

// save writes what is still there. It may be lost: it is only read anew then.
func (k *cache) save(all []candidate) {
	if k.file == "" || !k.anew && len(k.all) == len(all) {
		return
	}
	keep := map[string]entry{}
	for _, c := range all {
		keep[c.path] = k.all[c.path]
	}
	if raw, err := json.MarshalIndent(keep, "", " "); err == nil {
		tmp := k.file + ".new"
		if os.WriteFile(tmp, raw, 0o600) == nil {
			_ = os.Rename(tmp, k.file)
		}
	}
}
