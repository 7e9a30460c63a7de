package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/project"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/term"
)

// tryOptions are the flags of try.
type tryOptions struct {
	row                                              string
	file, browser, version, device, env, base, shots string
	vars                                             []string
	headed, ask, lab                                 bool
	in                                               io.Reader
}

func (r *root) tryCmd() *cobra.Command {
	var o tryOptions
	cmd := &cobra.Command{
		Use:   "try [SCRIPT]",
		Short: "Run one script with a browser of this machine, without a service, or one step after another by hand",
		Long: `Run one script the way an agent would, with a browser of this machine, and show each step as it ends.
Inside a project its environments and devices are known. With --headed a window opens on the screen.
With --lab the browser is one of the lab's; the session is recorded there, in the run "tries".
With --ask no script is read: steps are typed one by one, and those that work can be saved as a script.

Exit code: 0 passed, 1 failed, 2 usage or configuration, 3 lab trouble, 130 interrupted.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) != o.ask {
				return usage("expected either a script or --ask")
			}
			if o.in = cmd.InOrStdin(); !o.ask {
				o.file = args[0]
			}
			return r.try(cmd.Context(), o)
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.browser, "browser", "", "chromium, firefox or webkitgtk; the first that is found if not given")
	f.StringVar(&o.version, "version", "", "version of the browser, such as 153 or >=150")
	f.StringVar(&o.device, "device", "", "device to emulate (pane devices lists them)")
	f.StringVar(&o.env, "env", "", "environment of pane.yaml")
	f.StringVar(&o.base, "base", "", "base address instead of the environment's")
	f.StringArrayVar(&o.vars, "var", nil, "NAME=VALUE on top of the environment's variables; repeat for more")
	f.StringVar(&o.row, "row", "", "number or name of the row of the script's data to try it with; the first if not given")
	f.StringVar(&o.shots, "shots", "", "directory for screenshots; none are kept if not given")
	f.BoolVar(&o.ask, "ask", false, "take steps from the keyboard instead of a script")
	f.BoolVar(&o.lab, "lab", false, "use a browser of the lab instead of this machine's, in a session of its own")
	f.BoolVar(&o.headed, "headed", false, "open a window, on the screen where there is one")
	return cmd
}

func (r *root) try(ctx context.Context, o tryOptions) error {
	set, profile, p, err := o.setting()
	if err != nil {
		return err
	}
	sc := &script.Script{Name: "Steps by hand"}
	blocks, err := p.Library(project.Dir(set.Root))
	if err == nil && !o.ask {
		sc, err = o.script(p, set.Root, blocks)
	}
	if err == nil {
		err = o.choose(sc, &set)
	}
	if err != nil {
		return usage("%v", err)
	}
	began := time.Now()
	var s *tried
	if o.lab {
		s, err = r.openInLab(ctx, o, sc.Name, profile)
	} else {
		s, err = r.openHere(ctx, o, profile)
	}
	if err != nil {
		return err
	}
	var out script.Outcome
	defer func() { s.close(out.Verdict, out.Message) }()
	set.Scope.Browser = s.name
	if !r.json {
		fmt.Fprintf(r.out, "%s on %s %s as %s, open after %s\n", sc.Name, s.name, s.version, profile.Name, term.Took(time.Since(began)))
		for _, m := range s.emulated.Missing {
			fmt.Fprintf(r.out, "  %s\n", term.Faint("not emulated: "+m.Feature+" ("+m.Reason+")"))
		}
	}
	if o.ask {
		return r.ask(ctx, s, set, blocks, o)
	}
	out = script.Run(ctx, sc, webdrive.New(s.Session, s.lab), set, &steps{r: r, dir: o.shots})
	if r.json {
		err = r.writeJSON(map[string]any{"verdict": out.Verdict, "message": out.Message, "steps": out.Steps,
			"browser": s.name, "version": s.version,
			"device": profile.Name, "emulated": s.emulated, "took_ms": time.Since(began).Milliseconds()})
	} else {
		fmt.Fprintf(r.out, "%s in %s\n", term.Paint(out.Verdict, term.Shapes[out.Verdict]+" "+out.Verdict.Words()), term.Took(time.Since(began)))
	}
	switch {
	case err != nil:
		return err
	case ctx.Err() != nil:
		return silent(verdict.ExitInterrupted)
	}
	if code := (verdict.Counts{out.Verdict: 1}).ExitCode(); code != 0 {
		return silent(code)
	}
	return nil
}

// setting is what the project around the script, and the flags, say.
func (o tryOptions) setting() (set script.Setting, profile device.Profile, p *project.Project, err error) {
	p = &project.Project{Marker: script.DefaultMarker}
	set.Root = filepath.Dir(o.file)
	if root, findErr := project.FindRoot(filepath.Dir(o.file)); findErr == nil {
		if p, err = project.Load(project.Dir(root)); err != nil {
			return set, profile, p, usage("%v", err)
		}
		set.Root = root
	} else if o.env != "" {
		return set, profile, p, usage("--env: %v", findErr)
	}
	set.Marker = p.Marker
	env, err := p.Environment(o.env)
	if err != nil && (o.env != "" || o.base == "") {
		return set, profile, p, usage("%v", err)
	}
	if profile, err = device.Find(o.device, p.Devices...); err != nil {
		return set, profile, p, usage("--device: %v", err)
	}
	if set.Base = env.Base; o.base != "" {
		if err := project.CheckBase(o.base); err != nil {
			return set, profile, p, usage("--base: %v", err)
		}
		set.Base = o.base
	}
	vars, err := pairs("--var", o.vars)
	if err != nil {
		return set, profile, p, err
	}
	set.Scope = script.Scope{OS: runtime.GOOS, Device: script.DeviceOf(profile), Vars: env.Vars, Axes: map[string]string{}}
	if set.Scope.Vars == nil {
		set.Scope.Vars = map[string]string{}
	}
	for k, v := range vars {
		set.Scope.Vars[k] = v
	}
	return set, profile, p, nil
}

// script reads the file: as one of the project around it, or by itself.
func (o tryOptions) script(p *project.Project, root string, blocks *script.Library) (*script.Script, error) {
	if p.Name != "" {
		at, err := filepath.Abs(o.file)
		if err == nil {
			at, err = filepath.Rel(root, at)
		}
		if err != nil {
			return nil, err
		}
		return p.Script(project.Dir(root), filepath.ToSlash(at))
	}
	src, err := os.ReadFile(o.file)
	if err != nil {
		return nil, err
	}
	sc, err := script.Parse(o.file, src, blocks)
	if err == nil && sc.Data != nil {
		err = fmt.Errorf("%s takes its rows from a project: put a %s above it", o.file, project.FileName)
	}
	return sc, err
}

// choose takes the row that the script is tried with.
func (o tryOptions) choose(sc *script.Script, set *script.Setting) error {
	switch {
	case len(sc.Rows) == 0 && o.row != "":
		return fmt.Errorf("--row: %s takes no rows", cmp.Or(sc.File, "this"))
	case len(sc.Rows) == 0:
		return nil
	}
	i := 0
	if o.row != "" {
		if i = slices.IndexFunc(sc.Rows, func(r suite.Row) bool { return r.Is(o.row) }); i < 0 {
			return fmt.Errorf("--row: %s has no row %q, by number or name: it has %d, from %q to %q", sc.Data.File, o.row, len(sc.Rows),
				sc.Rows[0].Name, sc.Rows[len(sc.Rows)-1].Name)
		}
	}
	sc.Name, set.Scope.Row = sc.Rows[i].Of(sc.Name), sc.Rows[i].Values
	return nil
}

// find picks a browser of this machine.
func (o tryOptions) find(found []fleet.Browser) (fleet.Browser, error) {
	var have []string
	for _, b := range found {
		if b.Fits && (o.browser == "" || b.Name == o.browser) && b.HasVersion(o.version) {
			return b, nil
		}
		s := b.Name + " " + b.Version
		if !b.Fits {
			s += " (" + b.Problem + ")"
		}
		have = append(have, s)
	}
	if err := fleet.CheckWant("version", o.version); o.version != "" && err != nil {
		return fleet.Browser{}, usage("--%v", err)
	}
	if len(have) == 0 {
		return fleet.Browser{}, &exitError{verdict.ExitLab, errors.New("no browser was found here: pane agent check says what to install")}
	}
	return fleet.Browser{}, &exitError{verdict.ExitLab, fmt.Errorf("no usable %s %s here; there are %s", o.browser,
		o.version, strings.Join(have, ", "))}
}

// steps shows steps as they end and keeps screenshots.
type steps struct {
	r     *root
	dir   string
	shot  int
	brief bool // without the place in the file
}

func (s *steps) StepDone(res attempt.Step) {
	if s.r.json {
		return
	}
	v := term.StepVerdicts[res.State]
	place := fmt.Sprintf("%s:%d", res.At.File, res.At.Line)
	if s.brief {
		place = res.Matched
	}
	fmt.Fprintf(s.r.out, "  %s %7s  %s %s\n", term.Paint(v, term.Shapes[v]), term.Millis(res.TookMS), res.Title, term.Faint(place))
	if res.Message != "" {
		fmt.Fprintf(s.r.out, "             %s\n", term.Paint(v, strings.ReplaceAll(res.Message, "\n", "\n             ")))
	}
}

// Page keeps nothing: the browser is still there to be looked at.
func (s *steps) Page(string, likeness.Page) string { return "" }

// Shot keeps a screenshot under a number and its name.
func (s *steps) Shot(name string, png []byte) string {
	if s.dir == "" {
		return ""
	}
	s.shot++
	file := fmt.Sprintf("%02d-%s.png", s.shot, fileSafe(name))
	err := os.MkdirAll(s.dir, 0o755)
	if err == nil {
		err = os.WriteFile(filepath.Join(s.dir, file), png, 0o644)
	}
	if err != nil {
		fmt.Fprintf(s.r.err, "screenshot not kept: %v\n", err)
		return ""
	}
	return file
}
