package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"parallelpane/internal/project"
	"parallelpane/internal/script"
)

// touchedSince lists the tests of a suite that what has changed since a Git revision
// concerns, uncommitted changes and new files included: those whose own file, upload,
// block or rows have changed; all of them, which is nil, where the project file has, or a file that goes
// along with all. why says what that was.
func touchedSince(ctx context.Context, dir, suiteName, revision string) (tests []string, why string, err error) {
	root, err := project.FindRoot(dir)
	if err != nil {
		return nil, "", usage("%v", err)
	}
	files := project.Dir(root)
	p, err := project.Load(files)
	if err != nil {
		return nil, "", usage("%v", err)
	}
	s, err := p.Suite(suiteName)
	if err != nil {
		return nil, "", usage("%v", err)
	}
	changed, err := changedSince(ctx, root, revision)
	if err != nil {
		return nil, "", err
	}
	if slices.Contains(changed, project.FileName) {
		return nil, project.FileName + " has changed", nil
	}
	scripts, err := p.Scripts(files, s)
	if err != nil {
		return nil, "", usage("%v", err)
	}
	blocks, err := p.Library(files)
	if err != nil {
		return nil, "", usage("%v", err)
	}
	needs := map[string][]string{} // files that scripts need besides, by script
	for _, sc := range scripts {
		for _, st := range sc.Steps {
			if st.Action == script.Upload {
				needs[sc.File] = append(needs[sc.File], st.Text.Source)
			}
		}
		if sc.Data != nil {
			needs[sc.File] = append(needs[sc.File], sc.Data.File)
		}
		for _, b := range sc.Blocks() {
			needs[sc.File] = append(needs[sc.File], blocks.File(b))
		}
	}
	if s.Listed() {
		return nil, "something may have changed, and which test it concerns is not known of a suite with a listing command", nil
	}
	cases, err := p.Cases(files, s)
	if err != nil {
		return nil, "", usage("%v", err)
	}
	tests = []string{}
	for _, c := range cases {
		if slices.Contains(changed, c.File) || slices.ContainsFunc(needs[c.File], func(f string) bool { return slices.Contains(changed, f) }) {
			tests = append(tests, c.Name)
		}
	}
	for _, part := range s.Each() {
		why := concernsAll(part, changed)
		if why == "" {
			continue
		}
		if s.Kind != project.SeveralKind {
			return nil, why, nil
		}
		for _, c := range cases {
			if c.Part == part.Name {
				tests = append(tests, c.Name)
			}
		}
	}
	slices.Sort(tests)
	return slices.Compact(tests), "", nil
}

// concernsAll says why what has changed concerns every test of a suite; "" where it does
// not.
func concernsAll(s project.Suite, changed []string) string {
	if s.Data != nil && slices.Contains(changed, s.Data.File) {
		return s.Data.File + " has changed, whose rows all of them take"
	}
	for _, name := range changed {
		if slices.ContainsFunc(s.Files, func(glob string) bool { ok, _ := doublestar.Match(glob, name); return ok }) {
			return name + " has changed, which goes along with all of them"
		}
	}
	return ""
}

// changedSince lists the files below a directory that differ from a revision, by their
// names there.
func changedSince(ctx context.Context, root, revision string) ([]string, error) {
	if strings.HasPrefix(revision, "-") || revision == "" {
		return nil, usage("--touched-since: expected a Git revision such as main or HEAD~3, found %q", revision)
	}
	var out []string
	for _, args := range [][]string{
		{"diff", "--name-only", "--relative", "--no-renames", "-z", revision, "--", "."},
		{"ls-files", "--others", "--exclude-standard", "-z", "--", "."},
	} {
		raw, err := exec.CommandContext(ctx, "git", append([]string{"-C", root}, args...)...).Output()
		if failed, ok := errors.AsType[*exec.ExitError](err); ok {
			line, _, _ := bytes.Cut(bytes.TrimSpace(failed.Stderr), []byte("\n"))
			return nil, usage("--touched-since %s: git: %s", revision, line)
		}
		if err != nil {
			return nil, usage("--touched-since: %v", err)
		}
		for name := range strings.SplitSeq(string(raw), "\x00") {
			if name != "" {
				out = append(out, name)
			}
		}
	}
	return out, nil
}

// narrow has a run take only the tests that what has changed since a revision concerns;
// false when there are none.
func (r *root) narrow(ctx context.Context, o *runOptions) (some bool, err error) {
	tests, why, err := touchedSince(ctx, o.dir, o.req.Suite, o.touched)
	switch {
	case err != nil:
		return false, err
	case tests == nil:
		fmt.Fprintf(r.err, "Every test runs: since %s %s.\n", o.touched, why)
		return true, nil
	}
	if len(o.req.Tests) > 0 {
		tests = slices.DeleteFunc(tests, func(t string) bool { return !slices.Contains(o.req.Tests, t) })
	}
	if o.req.Tests = tests; len(tests) == 0 {
		fmt.Fprintf(r.err, "Nothing to run: no test of the suite, nor a file of one, has changed since %s.\n", o.touched)
		return false, nil
	}
	return true, nil
}
