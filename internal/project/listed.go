package project

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"
)

// Limits of what a listing command prints.
const (
	MaxListed     = 20_000 // names
	maxListedName = 500    // bytes
)

// listFile is where a bundle holds the names that a suite's listing command printed.
func listFile(suiteName string) string { return path.Join(".pane-names", suiteName) }

// listed is a tree with the names that a listing command printed, as a bundle has them.
type listed struct {
	Files
	name  string
	names []byte
}

// WithNames is a tree in which a suite's tests are those that its listing command printed,
// one in a line.
func WithNames(files Files, of Suite, printed []byte) (Files, error) {
	var names []string
	seen := map[string]bool{}
	for line := range strings.Lines(string(printed)) {
		name := strings.TrimSpace(line)
		switch {
		case name == "" || seen[name]:
			continue
		case len(name) > maxListedName || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f }):
			return nil, fmt.Errorf("the listing command printed %.80q, which is no name: at most %d bytes, without control characters", name,
				maxListedName)
		case len(names) == MaxListed:
			return nil, fmt.Errorf("the listing command printed more than %d names", MaxListed)
		}
		names, seen[name] = append(names, name), true
	}
	if len(names) == 0 {
		return nil, errors.New("the listing command printed no name")
	}
	return listed{files, listFile(of.Name), []byte(strings.Join(names, "\n") + "\n")}, nil
}

func (l listed) Read(name string) ([]byte, error) {
	if name == l.name {
		return l.names, nil
	}
	return l.Files.Read(name)
}

// listedCases are the tests that were named when the bundle was made.
func listedCases(files Files, of Suite) ([]suite.Case, error) {
	raw, err := files.Read(listFile(of.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, source.Problems{{Position: of.At, Message: fmt.Sprintf("suite %s: its tests are those that %q prints, which pane run "+
			"starts: they are not known here", of.Name, of.Command.List)}}
	}
	if err != nil {
		return nil, err
	}
	var out []suite.Case
	for line := range strings.Lines(string(raw)) {
		if name := strings.TrimSpace(line); name != "" && len(out) < MaxListed {
			out = append(out, suite.Case{Name: name})
		}
	}
	return out, nil
}
