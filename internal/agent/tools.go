package agent

import (
	"context"
	"os/exec"
	"path/filepath"
	"regexp"
	"sync"
	"time"

	"parallelpane/internal/core/fleet"
)

// tools are programs that suites run with, each with how it is asked for its version. Where
// several names are given, the first one that is there counts.
var tools = map[string]struct {
	programs []string
	ask      []string
}{
	"node": {[]string{"node", "nodejs"}, []string{"--version"}}, "npm": {[]string{"npm"}, []string{"--version"}},
	"python": {[]string{"python3", "python"}, []string{"--version"}}, "pytest": {[]string{"pytest", "pytest-3"}, []string{"--version"}},
	"java": {[]string{"java"}, []string{"-version"}}, "maven": {[]string{"mvn"}, []string{"--version"}},
	"gradle": {[]string{"gradle"}, []string{"--version"}}, "go": {[]string{"go"}, []string{"version"}},
	"ruby": {[]string{"ruby"}, []string{"--version"}}, "php": {[]string{"php"}, []string{"--version"}},
	"perl": {[]string{"perl"}, []string{"-v"}}, "dotnet": {[]string{"dotnet"}, []string{"--version"}},
	"rust": {[]string{"rustc"}, []string{"--version"}}, "bats": {[]string{"bats"}, []string{"--version"}},
	"make": {[]string{"make"}, []string{"--version"}}, "git": {[]string{"git"}, []string{"--version"}},
}

// versionIn finds the first thing that looks like a version in what a program says.
var versionIn = regexp.MustCompile(`\d+(?:\.\d+)+`)

// toolLimit is how long a program may take to say its version.
const toolLimit = 5 * time.Second

// toolsIn finds the tools in directories, with their versions: those that the commands of
// suites find, in the order in which they look for them.
func toolsIn(ctx context.Context, dirs []string) map[string]string {
	out := map[string]string{}
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
					if v := versionOf(ctx, path, t.ask); v != "" {
						mu.Lock()
						out[name] = v
						mu.Unlock()
						return
					}
				}
			}
		})
	}
	asking.Wait()
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
