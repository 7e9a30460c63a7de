package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/project"
	"parallelpane/internal/sessions/door"
	"parallelpane/internal/term"
	"parallelpane/internal/walls"
)

// runOptions are the flags that make a run request, and those of run itself.
type runOptions struct {
	req               api.RunRequest
	rows              []string // numbers or names
	dir               string
	vars, needs       []string
	secrets, record   []string
	limit, queue, all time.Duration
	watch, detach     bool
	output            bool
	dry               bool
	junit, summary    string
	touched           string // a Git revision
	relay             string // a name, or how one is opened
}

func (o *runOptions) request(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.dir, "dir", ".", "directory of the project")
	f.StringVar(&o.req.Matrix, "matrix", "", "matrix of pane.yaml")
	f.StringVar(&o.req.Environment, "env", "", "environment of pane.yaml")
	f.StringVar(&o.req.Base, "base", "", "base address instead of the environment's")
	f.StringArrayVar(&o.vars, "var", nil, "NAME=VALUE on top of the environment's variables; repeat for more")
	f.StringArrayVar(&o.secrets, "secret", nil, "NAME of an environment variable whose value scripts may use and nothing may show; "+
		"repeat for more")
	f.StringVar((*string)(&o.req.Mending), "mending", "", "of locators that find nothing any more: never, suggest (what they "+
		"found before), or accept (go on with it); default the project's, or suggest")
	f.StringVar(&o.req.Traffic, "traffic", "",
		"what the way to the site is held to, such as \"down=1500 up=750 delay=120\": kbit/s and milliseconds")
	f.StringArrayVar(&o.record, "record", nil, "KIND=never|always|unless-passed, what is recorded instead of what is usual; repeat for more")
	f.StringArrayVar(&o.req.Tags, "tag", nil, "only tests with this tag; repeat for more")
	f.StringArrayVar(&o.req.Tests, "test", nil, "only the test of this name; repeat for more")
	f.StringArrayVar(&o.rows, "row", nil, "only tests of the row of data with this number or name; repeat for more")
	f.StringVar((*string)(&o.req.Deal), "deal", string(api.Every), "every: each test in every combination; spread: each test once, "+
		"dealt over the combinations")
	f.StringVar((*string)(&o.req.Browser), "browser", string(api.Fresh), "fresh: a new browser for each test; kept: one for a slice of tests")
	f.StringArrayVar(&o.needs, "needs", nil, "FACT=VALUE that agents must have besides, such as site=quay; repeat for more")
	f.IntVar(&o.req.Lanes, "lanes", 0, "most slots of one combination at once; 1 runs it on one agent, one test after another")
	f.IntVar(&o.req.Limit, "limit", 0, "most slots of the whole run at once; 0 means no limit")
	f.IntVar(&o.req.Priority, "priority", 0, "-9 to 9: higher goes first within the project")
	f.IntVar(&o.req.Retries, "retries", 0, "attempts after a failure; a pass then counts as flaky")
	f.IntVar(&o.req.StopAfter, "stop-after", 0, "tests that may fail before the rest is skipped; 0 means all")
	f.DurationVar(&o.limit, "test-limit", 0, "longest time for a test (default 2m)")
	f.DurationVar(&o.all, "run-limit", 0, "longest time for the run from its first test; 0 means no limit")
	f.DurationVar(&o.queue, "queue-limit", 0, "longest wait for an agent that could do the work (default 5m)")
}

// prepare packs the suite, sends it and completes the request.
func (r *root) prepare(ctx context.Context, o *runOptions) (*client.Client, error) {
	raw, hash, cases, err := bundle(o.dir, o.req.Suite)
	if err != nil {
		return nil, err
	}
	if o.req.Tests, err = ofRows(cases, o.rows, o.req.Tests); err != nil {
		return nil, err
	}
	if o.req.Vars, err = pairs("--var", o.vars); err != nil {
		return nil, err
	}
	if o.req.Needs, err = fleet.ParseNeeds(o.needs); err != nil {
		return nil, usage("--needs: %v", err)
	}
	if o.req.Secrets, err = secrets(o.secrets, os.LookupEnv); err != nil {
		return nil, err
	}
	if o.req.Record, err = record.Parse(o.record); err != nil {
		return nil, usage("--record: %v", err)
	}
	c, err := r.client()
	if err != nil {
		return nil, err
	}
	if o.req.Bundle = hash; o.limit < 0 || o.queue < 0 || o.all < 0 {
		return nil, usage("--test-limit, --run-limit and --queue-limit must not be negative")
	}
	o.req.TestLimitS, o.req.QueueLimitS, o.req.RunLimitS = wholeSeconds(o.limit), wholeSeconds(o.queue), wholeSeconds(o.all)
	_, err = c.SendBundle(ctx, hash, raw)
	return c, err
}

func (r *root) runCmd() *cobra.Command {
	var o runOptions
	cmd := &cobra.Command{
		Use:   "run [SUITE]",
		Short: "Run a suite on a matrix and show the wall",
		Long: `Run a suite on every combination of a matrix. The project is found by its pane.yaml, in this
directory or above it. Names that are left out are the project's defaults.

Exit code: 0 passed, 1 tests failed, 2 usage or configuration, 3 lab trouble, 130 interrupted.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				o.req.Suite = args[0]
			}
			if o.touched != "" {
				if some, err := r.narrow(cmd.Context(), &o); err != nil || !some {
					return err
				}
			}
			c, err := r.prepare(cmd.Context(), &o)
			if err != nil {
				return err
			}
			if o.dry {
				return r.preview(cmd.Context(), c, o.req)
			}
			done, err := r.wayIn(cmd.Context(), c, &o)
			if err != nil {
				return err
			}
			defer done()
			return r.start(cmd.Context(), c, "/runs", o.req, o)
		},
	}
	o.request(cmd)
	cmd.Flags().StringVar(&o.relay, "relay", relayAuto,
		"how browsers reach the site: through the open relay of this name; auto: through this "+
			"machine where the base address means something else to the lab; open: through this machine; none: by themselves")
	o.attendance(cmd)
	cmd.Flags().StringVar(&o.touched, "touched-since", "",
		"only the tests whose files have changed since this Git revision, such as main; exit code 0 where there are none")
	cmd.Flags().BoolVar(&o.dry, "preview", false, "only say what would run and when it would end")
	return cmd
}

// start asks for a run, where at says, and attends it.
func (r *root) start(ctx context.Context, c *client.Client, at string, body any, o runOptions) error {
	var run api.Run
	// An interrupt in the middle waits for the answer: there may be a run to cancel by then.
	asking, done := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer done()
	if err := c.Call(asking, "POST", at, body, &run); err != nil {
		return err
	}
	return r.attend(ctx, c, run, o)
}

// attendance adds the flags of commands that start a run and wait for it.
func (o *runOptions) attendance(cmd *cobra.Command) {
	f := cmd.Flags()
	f.BoolVar(&o.watch, "watch", false, "write a line for each test as it ends")
	f.BoolVar(&o.output, "output", false, "write what commands print while they run, each line below whose it is")
	f.BoolVar(&o.detach, "detach", false, "print the run's number and address, and leave it running")
	f.StringVar(&o.junit, "junit", "", "write the results to this file as JUnit XML")
	f.StringVar(&o.summary, "summary", "", "write what became of the run to this file as Markdown, for the summary of a CI job")
}

func (r *root) preview(ctx context.Context, c *client.Client, req api.RunRequest) error {
	var p api.Preview
	if err := c.Call(ctx, "POST", "/runs/preview", req, &p); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(p)
	}
	fmt.Fprintf(r.out, "%s of %s on %s of %s: %d to run.\n", term.Number(len(p.Tests), "test"), p.Suite,
		term.Number(len(p.Combinations), "combination"), p.Matrix, p.Cases)
	for _, x := range p.Combinations {
		if x.Impossible != "" {
			fmt.Fprintf(r.out, "  %s %s: %s\n", term.Shapes[verdict.Unsupported], x.Label, term.Faint(x.Impossible))
		}
	}
	for _, s := range p.Settings {
		fmt.Fprintf(r.out, "  %s = %s %s\n", s.Name, s.Value, term.Faint("from "+s.From))
	}
	if p.ExpectedS == 0 {
		fmt.Fprintln(r.out, "As things are it would not end: no agent takes some of the work now. pane agents shows why.")
		return nil
	}
	how := ""
	if p.Unknown > 0 {
		how = fmt.Sprintf(" (%d of them have no past to go by)", p.Unknown)
	}
	fmt.Fprintf(r.out, "Started now it would end after about %s%s.\n", term.Took(time.Duration(p.ExpectedS*float64(time.Second))), how)
	fmt.Fprintf(r.out, "The last %d runs met %d of %d pairs of test and combination.\n", p.Met.Runs, p.Met.Met, p.Met.Pairs)
	return nil
}

// ofRows narrows tests, which are all where none are named, to those of rows.
func ofRows(cases []suite.Case, rows, tests []string) ([]string, error) {
	if len(rows) == 0 {
		return tests, nil
	}
	var out []string
	for _, row := range rows {
		before, known := len(out), false
		for _, c := range cases {
			if c.Row == nil || !c.Row.Is(row) {
				continue
			}
			if known = true; len(tests) == 0 || slices.Contains(tests, c.Name) {
				out = append(out, c.Name)
			}
		}
		if len(out) == before && !known {
			return nil, usage("--row: no test of the suite has a row %q, by number or name", row)
		}
	}
	if len(out) == 0 {
		return nil, usage("--row: none of the tests that are asked for has such a row")
	}
	return out, nil
}

// bundle packs the suite of a project directory, and lists its cases.
func bundle(dir, suiteName string) ([]byte, string, []suite.Case, error) {
	root, err := project.FindRoot(dir)
	if err != nil {
		return nil, "", nil, usage("%v", err)
	}
	var files project.Files = project.Dir(root)
	p, err := project.Load(files)
	if err != nil {
		return nil, "", nil, usage("%v", err)
	}
	of, err := p.Suite(suiteName)
	if err != nil {
		return nil, "", nil, usage("%v", err)
	}
	for _, part := range of.Each() {
		if !part.Listed() {
			continue
		}
		if files, err = list(root, files, part); err != nil {
			return nil, "", nil, err
		}
	}
	scripts, err := p.Scripts(files, of)
	if err != nil {
		return nil, "", nil, usage("%v", err)
	}
	cases, err := p.Cases(files, of)
	if err != nil {
		return nil, "", nil, usage("%v", err)
	}
	raw, hash, err := p.Pack(files, of, scripts)
	if err != nil {
		return nil, "", nil, usage("%v", err)
	}
	return raw, hash, cases, nil
}

// listLimit is how long a listing command may take.
const listLimit = 5 * time.Minute

// list asks a suite's listing command for the names of its tests.
func list(root string, files project.Files, of project.Suite) (project.Files, error) {
	ctx, cancel := context.WithTimeout(context.Background(), listLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", of.Command.List)
	cmd.Dir, cmd.WaitDelay = root, time.Second
	var wrong bytes.Buffer
	cmd.Stderr = &wrong
	printed, err := cmd.Output()
	if err != nil {
		_, last, _ := strings.Cut("\n"+strings.TrimSpace(wrong.String()), "\n")
		return nil, usage("suite %s: the listing command %q: %v: %.500s", of.Name, of.Command.List, err, last)
	}
	if files, err = project.WithNames(files, of, printed); err != nil {
		return nil, usage("suite %s: %v", of.Name, err)
	}
	return files, nil
}

// attend follows a run to its end.
func (r *root) attend(ctx context.Context, c *client.Client, run api.Run, o runOptions) error {
	address := fmt.Sprintf("%s/runs/%d", c.Base, run.Number)
	if o.detach {
		if r.json {
			return r.writeJSON(map[string]any{"number": run.Number, "id": run.ID, "address": address})
		}
		fmt.Fprintf(r.out, "#%d %s\n", run.Number, address)
		return nil
	}
	end := ""
	if run.ExpectedAt != nil {
		end = fmt.Sprintf(" Expected to take %s.", term.Took(time.Until(*run.ExpectedAt)))
	}
	fmt.Fprintf(r.err, "Run #%d: %s on %s.%s %s\n", run.Number, term.Number(len(run.Tests), "test"),
		term.Number(len(run.Panes), "combination"), end, address)
	if n := len(run.Plan.Missing) + run.Plan.Cover.Left; n > 0 {
		fmt.Fprintf(r.err, "%d combinations are left out; pane show %d says why.\n", n, run.Number)
	}
	for _, x := range run.Plan.Renamed {
		fmt.Fprintf(r.err, "%s was called %s: what it did stays its own.\n", term.Tame(x.Is), term.Tame(x.Was))
	}
	p := term.NewProgress(r.err, o.watch || o.output, r.json)
	printing, enough := context.WithCancel(ctx)
	defer enough()
	if o.output {
		f := &follower{c: c, number: run.Number, out: r.err, places: map[string]int64{}}
		go f.follow(printing)
	}
	err := c.Follow(ctx, run.Number, func(fresh api.Run) bool {
		run = fresh
		p.Whole(run)
		return run.State == api.Ended
	}, func(e api.Event) bool {
		p.Event(e, run)
		return e.Run != nil && e.Run.State == api.Ended
	})
	p.Done()
	if errors.Is(err, context.Canceled) {
		return interrupted(c, run.Number)
	}
	if err != nil {
		return err
	}
	return r.finish(ctx, c, run.Number, map[string]string{"junit": o.junit, "summary": o.summary})
}

func wholeSeconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

// interrupted cancels the run that nobody waits for any more.
func interrupted(c *client.Client, number int) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := c.Call(ctx, "POST", fmt.Sprintf("/runs/%d/cancel", number), nil, nil); err != nil {
		return &exitError{verdict.ExitInterrupted, fmt.Errorf("interrupted; run #%d could not be cancelled: %w", number, err)}
	}
	return &exitError{verdict.ExitInterrupted, fmt.Errorf("interrupted; run #%d is cancelled", number)}
}

// finish writes the ended run, and to files by form what they are to have of it, and gives
// its exit code.
func (r *root) finish(ctx context.Context, c *client.Client, number int, files map[string]string) error {
	var run api.Run
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
		return err
	}
	for form, file := range files {
		if file == "" {
			continue
		}
		if err := download(ctx, c, fmt.Sprintf("/runs/%d/as/%s", number, form), file); err != nil {
			return err
		}
	}
	if err := r.writeRun(ctx, c, run, nil); err != nil {
		return err
	}
	if run.Verdict == verdict.LabFault && !r.json {
		r.fromHere(ctx, run)
	}
	if code := run.Counts.ExitCode(); code != 0 {
		return silent(code)
	}
	return nil
}

// fromHere says so where a site that no agent reached answers from this machine: the
// address is then one that means something else to every machine, or lies behind a wall.
func (r *root) fromHere(ctx context.Context, run api.Run) {
	agent := ""
	lost := slices.ContainsFunc(run.Cells, func(cells []api.Cell) bool {
		return slices.ContainsFunc(cells, func(c api.Cell) bool {
			name, gaveUp := dispatch.NotReached(c.Why)
			agent = cmp.Or(agent, name)
			return gaveUp
		})
	})
	if lost && run.Base != "" && run.Request.Relay == "" && door.Try(ctx, http.DefaultTransport, run.Base) == nil {
		fmt.Fprintf(r.err, "\nnot reachable from agent %s; it answers from your machine: add --relay open. "+
			"(Or give an address that the agents reach, with --base.)\n", agent)
	}
}

// writeRun writes a run, with the last runs of its cells where past has them.
func (r *root) writeRun(ctx context.Context, c *client.Client, run api.Run, past [][]string) error {
	if r.json {
		return r.writeJSON(run)
	}
	faults, err := term.FaultsOf(run, func(test int) (res api.TestResult, err error) {
		err = c.Get(ctx, fmt.Sprintf("/runs/%d/tests/%d", run.Number, test), &res)
		return
	}, c.Base)
	if err != nil {
		return err
	}
	fmt.Fprintln(r.out)
	term.Wall(r.out, run, past)
	term.Missing(r.out, run)
	term.Faults(r.out, faults)
	v := run.Verdict.Words()
	if run.State != api.Ended {
		v = string(run.State)
	}
	spent := ""
	if run.StartedAt != nil && run.EndedAt != nil {
		spent = " in " + term.Took(run.EndedAt.Sub(*run.StartedAt))
	}
	why := ""
	if run.Why != "" {
		why = " (" + run.Why + ")"
	}
	if n := instead(run); n > 0 {
		fmt.Fprintf(r.out, "\n%s passed with another element in a locator's place: pane mend %d says which\n", term.Number(n, "cell"), run.Number)
	}
	fmt.Fprintf(r.out, "\nRun #%d %s%s%s: %s\n%s/runs/%d\n", run.Number, term.Paint(run.Verdict, v), why, spent,
		term.Counts(run.Counts), c.Base, run.Number)
	return nil
}

// instead is how many cells of a run passed though one of their locators found nothing.
func instead(run api.Run) (n int) {
	for _, row := range run.Cells {
		for _, c := range row {
			if c.Verdict == verdict.Passed && c.Message != "" {
				n++
			}
		}
	}
	return n
}

// download writes an answer to a file, whole or not at all.
func download(ctx context.Context, c *client.Client, path, file string) error {
	resp, err := c.Do(ctx, "GET", path, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	tmp, err := os.CreateTemp(filepath.Dir(file), ".pane-")
	if err != nil {
		return usage("cannot write %s: %v", file, err)
	}
	defer os.Remove(tmp.Name())
	_, err = io.Copy(tmp, resp.Body)
	if err = errors.Join(err, tmp.Chmod(0o644), tmp.Close()); err == nil {
		err = os.Rename(tmp.Name(), file)
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", file, err)
	}
	return nil
}

// ofRun reads the number of a run, with or without a #, and connects to the
// service.
func (r *root) ofRun(arg string) (*client.Client, int, error) {
	n, err := strconv.Atoi(strings.TrimPrefix(arg, "#"))
	if err != nil || n < 1 {
		return nil, 0, usage("%q is not the number of a run: pane runs lists them", arg)
	}
	c, err := r.client()
	return c, n, err
}

func (r *root) runsCmd() *cobra.Command {
	q := map[string]*string{}
	var limit int
	cmd := &cobra.Command{
		Use: "runs", Short: "List runs, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			v := url.Values{"limit": {strconv.Itoa(limit)}}
			for k, s := range q {
				if *s != "" {
					v.Set(k, *s)
				}
			}
			var runs []api.RunSummary
			if err := c.Get(cmd.Context(), "/runs?"+v.Encode(), &runs); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(runs)
			}
			if len(runs) == 0 {
				if len(v) > 1 {
					fmt.Fprintln(r.out, "No run matches.")
				} else {
					fmt.Fprintln(r.out, "No run yet. Start one in a project's directory: pane run")
				}
				return nil
			}
			t := term.NewTable("run", "suite", "matrix", "verdict", "panes", "tests", "by", "started")
			for _, run := range runs {
				v := run.Verdict.Words()
				if run.State != api.Ended {
					v = string(run.State)
				}
				glass := ""
				for _, p := range run.Panes {
					glass += term.Paint(p.Verdict, term.Shapes[p.Verdict])
				}
				t.Row("#"+strconv.Itoa(run.Number), run.Project+" "+run.Suite, run.Matrix, term.Paint(run.Verdict, v), glass,
					term.Counts(run.Counts), run.By, humanize.Time(*run.CreatedAt))
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
	for name, help := range map[string]string{"project": "only this project", "suite": "only this suite", "matrix": "only this matrix",
		"verdict": "only this verdict", "environment": "only runs in this environment",
		"bundle": "only runs of the files whose SHA-256 begins so",
		"by":     "only runs of this person", "state": "open or ended", "text": "only runs in which this text is found"} {
		q[name] = cmd.Flags().String(name, "", help)
	}
	cmd.Flags().IntVar(&limit, "limit", 20, "at most this many")
	return cmd
}

func (r *root) showCmd() *cobra.Command {
	var test, by string
	var past, words bool
	cmd := &cobra.Command{
		Use: "show RUN", Short: "Show a run's wall and what went wrong, or one test step by step", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, err := r.ofRun(args[0])
			if err != nil {
				return err
			}
			if words {
				var got api.Words
				return r.answer(cmd.Context(), fmt.Sprintf("/runs/%d/words", number), nil, &got, func() { fmt.Fprint(r.out, got.Text) })
			}
			var run api.Run
			if err := c.Get(cmd.Context(), fmt.Sprintf("/runs/%d", number), &run); err != nil {
				return err
			}
			switch {
			case test != "":
				return r.showTest(cmd.Context(), c, run, test)
			case by != "":
				return r.showBy(run, by)
			}
			var strips api.Past
			if past && !r.json {
				if err := c.Get(cmd.Context(), fmt.Sprintf("/runs/%d/past", number), &strips); err != nil {
					return err
				}
			}
			return r.writeRun(cmd.Context(), c, run, strips.Strips)
		},
	}
	cmd.Flags().StringVar(&test, "test", "", "show this test in every combination, step by step")
	cmd.Flags().StringVar(&by, "by", "", "count what its cells came to by an axis such as browser, by tag, or by directory")
	cmd.Flags().BoolVar(&words, "words", false, "say what became of it in a few words, for pasting; with --json in Markdown and HTML too")
	cmd.Flags().BoolVar(&past, "past", false, "below each cell what it came to in its last twenty runs, oldest first")
	return cmd
}

// showBy counts a run's cells by an axis, by tag or by directory.
func (r *root) showBy(run api.Run, by string) error {
	groups := walls.By(&run, by)
	if len(groups) == 0 {
		axes := []string{"tag", "directory"}
		for _, p := range run.Panes {
			for axis := range p.Values {
				if !slices.Contains(axes, axis) {
					axes = append(axes, axis)
				}
			}
		}
		slices.Sort(axes)
		return usage("--by: run #%d has no axis %q; choose one of %s", run.Number, by, strings.Join(axes, ", "))
	}
	if r.json {
		return r.writeJSON(groups)
	}
	t := term.NewTable(by, "cells", "came to")
	for _, g := range groups {
		t.Row(term.Tame(g.Value), strconv.Itoa(g.Counts.Total()), term.Counts(g.Counts))
	}
	fmt.Fprintln(r.out, t)
	return nil
}

func (r *root) showTest(ctx context.Context, c *client.Client, run api.Run, name string) error {
	test, err := testOf(&run, name)
	if err != nil {
		return err
	}
	var res api.TestResult
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d/tests/%d", run.Number, test), &res); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(res)
	}
	writeTest(r.out, res, c.Base)
	return nil
}

func writeTest(w io.Writer, res api.TestResult, base string) {
	fmt.Fprintf(w, "%s\n%s\n", res.Test.Name, term.Faint(res.Test.File))
	for _, p := range res.Results {
		if p.Cell.State == api.Undealt {
			continue
		}
		fmt.Fprintf(w, "\n%s %s  %s %s\n", term.Paint(p.Cell.Verdict, term.Shapes[p.Cell.Verdict]), p.Pane.Label, term.Paint(p.Cell.Verdict,
			p.Cell.Verdict.Words()), p.Cell.Why)
		for _, a := range p.Attempts {
			fmt.Fprintf(w, "  attempt %d on %s, %s: %s\n", a.Number, a.Agent, term.Millis(a.TookMS), term.Paint(a.Verdict, a.Verdict.Words()))
			fmt.Fprintf(w, "    %s\n", term.Faint(base+"/sessions/"+a.ID))
			for _, c := range a.Detail.Cut {
				fmt.Fprintf(w, "    left out: %s\n", c)
			}
			if len(a.Detail.Steps) == 0 && a.Message != "" {
				fmt.Fprintf(w, "    %s\n", a.Message)
			}
			for _, s := range a.Detail.Steps {
				v := term.StepVerdicts[s.State]
				fmt.Fprintf(w, "  %s %7s  %s %s\n", term.Paint(v, term.Shapes[v]), term.Millis(s.TookMS), s.Title,
					term.Faint(fmt.Sprintf("%s:%d", s.At.File, s.At.Line)))
				if s.Message != "" {
					fmt.Fprintf(w, "             %s\n", term.Paint(v, strings.ReplaceAll(s.Message, "\n", "\n             ")))
				}
			}
		}
	}
}

func (r *root) againCmd() *cobra.Command {
	var o runOptions
	var q api.AgainRequest
	cmd := &cobra.Command{
		Use: "again RUN", Short: "Run an ended run again, all of it or what did not pass", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, err := r.ofRun(args[0])
			if err != nil {
				return err
			}
			if q.Secrets, err = secrets(o.secrets, os.LookupEnv); err != nil {
				return err
			}
			done, err := r.sameWay(cmd.Context(), c, number, o.detach)
			if err != nil {
				return err
			}
			defer done()
			return r.start(cmd.Context(), c, fmt.Sprintf("/runs/%d/again", number), q, o)
		},
	}
	cmd.Flags().BoolVar(&q.NotPassed, "not-passed", false, "only the tests that did not pass")
	cmd.Flags().StringArrayVar(&q.Tests, "test", nil, "only this test, by name; repeat for more")
	cmd.Flags().StringArrayVar(&o.secrets, "secret", nil, "NAME of an environment variable with a secret that the run had; repeat for more")
	o.attendance(cmd)
	return cmd
}

func (r *root) cancelCmd() *cobra.Command {
	return &cobra.Command{
		Use: "cancel RUN", Short: "End a run before its time", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, err := r.ofRun(args[0])
			if err != nil {
				return err
			}
			var run api.Run
			if err := c.Call(cmd.Context(), "POST", fmt.Sprintf("/runs/%d/cancel", number), nil, &run); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(run)
			}
			fmt.Fprintf(r.out, "Run #%d is cancelled: %s\n", number, term.Counts(run.Counts))
			return nil
		},
	}
}

func (r *root) fetchCmd() *cobra.Command {
	var kind string
	cmd := &cobra.Command{
		Use: "fetch RUN DIR", Short: "Save a run's result and the files it kept to a directory", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, err := r.ofRun(args[0])
			if err != nil {
				return err
			}
			if kind != "" && !slices.Contains(record.Kinds, record.Kind(kind)) {
				return usage("--kind: expected one of %v, found %q", record.Kinds, kind)
			}
			return r.fetch(cmd.Context(), c, number, kind, args[1])
		},
	}
	cmd.Flags().StringVar(&kind, "kind", "", "only files of this kind: screenshots, logs, commands, video, network or console")
	return cmd
}

func (r *root) fetch(ctx context.Context, c *client.Client, number int, kind, dir string) error {
	var run json.RawMessage
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
		return err
	}
	var files []api.RunFile
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d/files?kind=%s", number, url.QueryEscape(kind)), &files); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return usage("cannot write to %s: %v", dir, err)
	}
	if err := os.WriteFile(filepath.Join(dir, "run.json"), append(run, '\n'), 0o644); err != nil {
		return usage("cannot write to %s: %v", dir, err)
	}
	type saved struct {
		api.RunFile
		Path string `json:"path"`
	}
	out := []saved{}
	for _, f := range files {
		name := fmt.Sprintf("%s-%d", fileSafe(f.Test), f.Number)
		path := filepath.Join(dir, fileSafe(f.Label), name, fileSafe(f.Name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return usage("cannot write to %s: %v", dir, err)
		}
		if err := download(ctx, c, "/attempts/"+url.PathEscape(f.Attempt)+"/files/"+url.PathEscape(f.Name), path); err != nil {
			return err
		}
		out = append(out, saved{f, path})
	}
	if r.json {
		return r.writeJSON(out)
	}
	fmt.Fprintf(r.out, "run.json and %d files saved to %s\n", len(out), dir)
	return nil
}

// fileSafe makes one path element of any text.
func fileSafe(s string) string {
	s = strings.Join(strings.FieldsFunc(s, func(r rune) bool {
		return r != '.' && r != '_' && r != '-' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}), "-")
	if s = strings.TrimLeft(s, "."); s == "" {
		return "_"
	}
	return s[:min(len(s), 100)]
}
