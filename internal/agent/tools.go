package agent

import (
	"context"
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sync"
	"time"

	"parallelpane/internal/core/fleet"
)

// tools are programs that suites run with, each with how it is asked for its version. Where
// several names are given, the first one that is there counts. Those that take a second to
// say it are left out: they come with one that is here.
var tools = map[string]struct {
	programs []string
	ask      []string
}{
	"node":   {[]string{"node", "nodejs"}, []string{"--version"}},
	"python": {[]string{"python3", "python"}, []string{"--version"}}, "pytest": {[]string{"pytest", "pytest-3"}, []string{"--version"}},
	"java": {[]string{"java"}, []string{"-version"}}, "go": {[]string{"go"}, []string{"version"}},
	"ruby": {[]string{"ruby"}, []string{"--version"}}, "php": {[]string{"php"}, []string{"--version"}},
	"perl": {[]string{"perl"}, []string{"-v"}}, "dotnet": {[]string{"dotnet"}, []string{"--version"}},
	"rust": {[]string{"rustc"}, []string{"--version"}}, "bats": {[]string{"bats"}, []string{"--version"}},
	"make": {[]string{"make"}, []string{"--version"}}, "git": {[]string{"git"}, []string{"--version"}},
}

// versionIn finds the first thing that looks like a version in what a program says.
var versionIn = regexp.MustCompile(`\d+(?:\.\d+)+`)

// toolLimit is how long a program may take to say its version.
const toolLimit = 5 * time.Second

// known is what a program said of itself, as long as it is the same file.
type known struct {
	Version string    `json:"version"` // "" of one that says none
	Size    int64     `json:"size"`
	Changed time.Time `json:"changed"`
}

// toolsIn finds the tools in directories, with their versions: those that the commands of
// suites find, in the order in which they look for them. A program that has not changed is
// not asked again: what it said is in a file; "" is for none.
func toolsIn(ctx context.Context, dirs []string, file string) map[string]string {
	out, before, now := map[string]string{}, map[string]known{}, map[string]known{}
	if raw, err := os.ReadFile(file); err == nil && json.Unmarshal(raw, &before) != nil {
		clear(before) // it is written anew
	}
	var mu sync.Mutex
	var asking sync.WaitGroup
	for name, t := range tools {
		asking.Go(func() {
			for _, program := range t.programs {
				for _, dir := range dirs {
					path, err := exec.LookPath(filepath.Join(dir, program))
					if err != nil {
						continue
					}
					info, err := os.Stat(path)
					if err != nil {
						continue
					}
					k, same := before[path]
					if !same || k.Size != info.Size() || !k.Changed.Equal(info.ModTime()) {
						k = known{versionOf(ctx, path, t.ask), info.Size(), info.ModTime()}
					}
					mu.Lock()
					if now[path] = k; k.Version != "" {
						out[name] = k.Version
					}
					mu.Unlock()
					if k.Version != "" {
						return
					}
				}
			}
		})
	}
	asking.Wait()
	if raw, err := json.Marshal(now); err == nil && file != "" && !maps.Equal(before, now) {
		_ = os.WriteFile(file, raw, 0o600) // else they are asked the next time as well
	}
	return out
}

func versionOf(ctx context.Context, path string, ask []string) string {
	ctx, cancel := context.WithTimeout(ctx, toolLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, ask...)
	cmd.WaitDelay = time.Second
	said, err := cmd.CombinedOutput()
	if err != nil {
		return ""
	}
	return fleet.ToolVersion(versionIn.FindString(string(said)))
}
