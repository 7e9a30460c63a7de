// Package purity checks that the core stays free of I/O and of clocks, and that the
// imports of the packages around it point downwards only.
package purity

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var forbidden = []string{"net/http", "net", "os", "os/exec", "database/sql", "log", "log/slog", "io/fs", "math/rand", "crypto/rand", "sync",
	"github.com/gofiber/", "github.com/jmoiron/", "github.com/spf13/"}

// TestCoreImportsNothingThatActs reads every file of the core that is not a
// test: no I/O, no clock, no goroutine, and nothing of ours outside the core.
func TestCoreImportsNothingThatActs(t *testing.T) {
	files := 0
	require.NoError(t, filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, spec := range f.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			for _, bad := range forbidden {
				assert.False(t, name == bad || strings.HasSuffix(bad, "/") && strings.HasPrefix(name, bad), "%s imports %s", path, name)
			}
			if strings.HasPrefix(name, "parallelpane/") {
				assert.True(t, strings.HasPrefix(name, "parallelpane/internal/core/"), "%s imports %s, outside the core", path, name)
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine", path)
			case *ast.SelectorExpr:
				if pkg, ok := n.X.(*ast.Ident); ok && pkg.Name == "time" {
					assert.NotContains(t, []string{"Now", "Since", "Until", "After", "Sleep", "Tick", "NewTimer", "NewTicker"},
						n.Sel.Name, "%s reads the clock", path)
				}
			}
			return true
		})
		return nil
	}))
	assert.Greater(t, files, 4)
}

// arrows says what of ours, besides the core, a package may import.
var arrows = map[string][]string{
	"api":     {},
	"client":  {"api"},
	"store":   {},
	"blobs":   {},
	"link":    {},
	"secrets": {"api", "store"},
	"walls":   {"api", "store"},
	"access":  {"api", "store"},
	"backup":  {"blobs"},
	"keep":    {"api", "backup", "store", "blobs", "walls"},
	"lab":     {"api", "walls", "store", "blobs", "link", "place", "recording", "webdriver"},
	"order":   {"api", "lab", "walls", "store", "blobs", "secrets", "place", "project", "snippet"},
	"results": {"api", "walls", "store", "blobs", "recording", "script"},
	"service": {"access", "api", "backup", "blobs", "keep", "lab", "notify", "order", "relay", "results",
		"secrets", "store"},
	"notify":  {"api", "place", "report", "store", "walls"},
	"httpapi": {"access", "api", "lab", "link", "notify", "project", "relay", "report", "results", "service", "webdriver"},
	"agent": {"agent/spool", "agent/upstream", "agent/work", "agent/work/commands", "agent/work/remote", "agent/work/scripts",
		"agent/shelf", "adb", "client", "engine", "engine/android", "engine/box", "engine/find", "link", "place", "project", "sessions",
		"sessions/door"},
	"adb":            {},
	"adb/standin":    {"adb", "engine/android", "engine/process"},
	"engine/android": {"adb", "engine", "engine/box", "engine/chromium"},
	"agent/upstream": {"client", "link"},
	"agent/shelf":    {"agent/upstream", "blobs", "engine/find", "engine/stock", "link", "sessions"},
	"agent/spool":    {"agent/upstream", "link", "blobs"},
	"agent/work": {"agent/upstream", "agent/spool", "link", "blobs", "place", "project", "recording", "sessions",
		"sessions/door"},
	"agent/work/scripts": {"agent/work", "engine", "link", "project", "recording", "script", "script/webdrive", "sessions"},
	"agent/work/commands": {"agent/upstream", "agent/work", "engine/box", "engine/process", "link", "project", "recording",
		"sessions", "webdriver"},
	"agent/work/remote": {"agent/work", "engine", "link", "recording", "sessions", "webdriver"},
	"sessions": {"bidi", "engine", "engine/box", "engine/find", "engine/process", "link", "recording", "sessions/door",
		"webdriver"},
	"sessions/door":  {"place", "recording"},
	"engine":         {"bidi", "engine/box", "engine/process", "webdriver"},
	"engine/box":     {"engine/process"},
	"engine/find":    {"engine/process"},
	"engine/stock":   {"engine/find"},
	"engine/process": {},
	"report":         {"api"},
	"snippet":        {"api"},
	"place":          {},
	"relay":          {"api", "place"},
	"term":           {"api"},
}

func TestImportsPointDownwards(t *testing.T) {
	for room, may := range arrows {
		files, err := filepath.Glob(filepath.Join("..", "..", room, "*.go"))
		require.NoError(t, err)
		require.NotEmpty(t, files, room)
		for _, path := range files {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, spec := range f.Imports {
				name, ours := strings.CutPrefix(strings.Trim(spec.Path.Value, `"`), "parallelpane/internal/")
				assert.True(t, !ours || strings.HasPrefix(name, "core/") || slices.Contains(may, name), "%s imports %s", path, name)
			}
		}
	}
}
