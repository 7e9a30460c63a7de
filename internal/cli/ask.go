package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
)

const askHelp = `Type one step in the script format, such as
  visit: /
  click: {role: link, name: Tide table}
  expect: {title: {contains: Tide}}
A step that works is kept. Further words:
  :steps       show what is kept
  :undo        forget the last step that was kept (the page stays as it is)
  :save FILE   write the kept steps as a script
  :help        show this
  :quit        leave
`

// conversation takes one step at a time and keeps those that work.
type conversation struct {
	blocks *script.Library
	r      *root
	b      *webdrive.Browser
	set    script.Setting
	kept   []string
	saved  bool
	shots  string
}

// ask reads steps from in until it ends or :quit.
func (r *root) ask(ctx context.Context, s *tried, set script.Setting, blocks *script.Library, o tryOptions) error {
	set.Scope.Kept = map[string]string{} // what keep steps read lasts from step to step
	c := &conversation{r: r, b: webdrive.New(s.Session, s.lab), set: set, blocks: blocks, saved: true, shots: o.shots}
	fmt.Fprint(r.out, askHelp)
	lines := make(chan string)
	go func() { // a read cannot be interrupted; it ends with the program
		defer close(lines)
		scan := bufio.NewScanner(o.in)
		for scan.Scan() {
			select {
			case lines <- scan.Text():
			case <-ctx.Done():
				return
			}
		}
	}()
	for {
		fmt.Fprint(r.out, "step> ")
		select {
		case <-ctx.Done():
			return silent(verdict.ExitInterrupted)
		case line, ok := <-lines:
			if !ok {
				fmt.Fprintln(r.out)
				return c.leave()
			}
			leave, err := c.take(ctx, strings.TrimSpace(line))
			if err != nil || leave {
				return errors.Join(err, c.leave())
			}
			if gone := s.lab.Gone(ctx); gone != nil && ctx.Err() == nil {
				return &exitError{verdict.ExitLab, gone}
			}
		}
	}
}

func (c *conversation) leave() error {
	if !c.saved {
		fmt.Fprintf(c.r.out, "%d steps were not saved:\n", len(c.kept))
		c.show()
	}
	return nil
}

func (c *conversation) show() {
	for _, k := range c.kept {
		fmt.Fprintf(c.r.out, "  - %s\n", k)
	}
}

// take carries out one line; leave says that it was the last.
func (c *conversation) take(ctx context.Context, line string) (leave bool, err error) {
	word, rest, _ := strings.Cut(line, " ")
	switch {
	case line == "":
	case word == ":quit":
		return true, nil
	case word == ":help":
		fmt.Fprint(c.r.out, askHelp)
	case word == ":steps":
		c.show()
	case word == ":undo" && len(c.kept) > 0:
		c.kept = c.kept[:len(c.kept)-1]
		c.show()
	case word == ":save":
		c.save(strings.TrimSpace(rest))
	case strings.HasPrefix(line, ":"):
		fmt.Fprintf(c.r.out, "There is no %s here; :help lists what there is.\n", word)
	default:
		c.step(ctx, strings.TrimSpace(strings.TrimPrefix(line, "- ")))
	}
	return false, nil
}

// step runs one step and keeps it if it works.
func (c *conversation) step(ctx context.Context, line string) {
	sc, err := script.Parse("step"+script.Suffix, []byte(asScript("step", []string{line})), c.blocks)
	if err != nil {
		var problems source.Problems
		if errors.As(err, &problems) {
			for _, p := range problems {
				fmt.Fprintf(c.r.out, "  %s\n", p.Message)
			}
			return
		}
		fmt.Fprintf(c.r.out, "  %v\n", err)
		return
	}
	out := script.Run(ctx, sc, c.b, c.set, &steps{r: c.r, dir: c.shots, brief: true})
	if out.Verdict == verdict.Passed {
		c.kept, c.saved = append(c.kept, line), false
	}
}

// asScript writes steps as a script.
func asScript(name string, lines []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "name: %s\nsteps:\n", name)
	for _, l := range lines {
		fmt.Fprintf(&b, "  - %s\n", l)
	}
	return b.String()
}

// save writes the kept steps to a new file.
func (c *conversation) save(file string) {
	name := strings.TrimSuffix(file[strings.LastIndexAny(file, `/\`)+1:], script.Suffix)
	switch {
	case len(c.kept) == 0:
		fmt.Fprintln(c.r.out, "No step has worked yet.")
		return
	case name == "" || !strings.HasSuffix(file, script.Suffix):
		fmt.Fprintf(c.r.out, "Say where to: :save tests/tides%s\n", script.Suffix)
		return
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, os.ErrExist) {
		fmt.Fprintf(c.r.out, "%s exists already and was left as it is: choose another name.\n", file)
		return
	}
	if err == nil {
		_, err = io.WriteString(f, asScript(strings.ReplaceAll(name, "-", " "), c.kept))
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		fmt.Fprintf(c.r.out, "Not saved: %v\n", err)
		return
	}
	c.saved = true
	fmt.Fprintf(c.r.out, "%d steps saved to %s\n", len(c.kept), file)
}
