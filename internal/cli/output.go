package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/term"
)

// outputEvery is how often commands that run are asked for what they print.
const outputEvery = 500 * time.Millisecond

// follower writes what the commands of a run print, each line with whose it is.
type follower struct {
	c      *client.Client
	number int
	out    io.Writer
	only   func(api.Printing) bool // nil means all
	places map[string]int64        // by attempt
	last   string                  // whose line was written last
}

// look writes what is new; any says whether a command of those it is about is with an agent.
func (f *follower) look(ctx context.Context) (any bool, err error) {
	var all []api.Printing
	if err := f.c.Get(ctx, fmt.Sprintf("/runs/%d/outputs", f.number), &all); err != nil {
		return false, err
	}
	for _, p := range all {
		if f.only != nil && !f.only(p) {
			continue
		}
		any = true
		var o api.Output
		path := fmt.Sprintf("/runs/%d/tests/%d/panes/%d/output?from=%d", f.number, p.Test, p.Pane, f.places[p.Attempt])
		if err := f.c.Get(ctx, path, &o); err != nil {
			return any, err
		}
		if !o.Live || o.Text == "" {
			continue
		}
		head := p.Label + " │ " + p.Name
		if f.last != head {
			fmt.Fprintln(f.out, term.Faint(term.Tame(head)))
			f.last = head
		}
		for line := range strings.Lines(o.Text) {
			fmt.Fprintln(f.out, "  "+term.Tame(strings.TrimRight(line, "\r\n")))
		}
		f.places[p.Attempt] = o.Next
	}
	return any, nil
}

// follow looks again and again until the context ends.
func (f *follower) follow(ctx context.Context) {
	t := time.NewTicker(outputEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			_, _ = f.look(ctx) // the run goes on without
		}
	}
}

func (r *root) outputCmd() *cobra.Command {
	var pane string
	var follow bool
	cmd := &cobra.Command{
		Use: "output RUN TEST", Short: "Print what the command of a test printed, or prints now", Args: cobra.ExactArgs(2),
		Long: `Print what the command of a test printed: while it runs, the latest that can be seen of it (whole lines, without
secrets); afterwards what is kept of it. TEST is the name of a file of a command suite.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, err := r.ofRun(args[0])
			if err != nil {
				return err
			}
			return r.output(cmd.Context(), c, number, args[1], pane, follow)
		},
	}
	cmd.Flags().StringVar(&pane, "pane", "", "label or number of the combination, from 0; the first one if not given")
	cmd.Flags().BoolVar(&follow, "follow", false, "go on until the command ends")
	return cmd
}

func (r *root) output(ctx context.Context, c *client.Client, number int, test, pane string, follow bool) error {
	var run api.Run
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
		return err
	}
	t := slices.IndexFunc(run.Tests, func(x api.Test) bool { return x.Name == test })
	if t < 0 {
		return usage("run %d has no test %q: pane show %d lists them", number, test, number)
	}
	p := 0
	if pane != "" {
		if p = slices.IndexFunc(run.Panes, func(x api.Pane) bool { return x.Label == pane || strconv.Itoa(x.Index) == pane }); p < 0 {
			return usage("--pane: run %d has no combination %q: pane show %d lists them", number, pane, number)
		}
	}
	f := &follower{c: c, number: number, out: r.out, places: map[string]int64{},
		only: func(x api.Printing) bool { return x.Test == t && x.Pane == p }}
	for live := false; ; live = true {
		any, err := f.look(ctx)
		if err != nil {
			return err
		}
		if any && follow {
			select {
			case <-ctx.Done():
				return silent(130)
			case <-time.After(outputEvery):
			}
			continue
		}
		if any || live {
			return nil
		}
		return r.keptOutput(ctx, c, run, t, p)
	}
}

// keptOutput prints the file that the newest attempt has of it.
func (r *root) keptOutput(ctx context.Context, c *client.Client, run api.Run, test, pane int) error {
	var res api.TestResult
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d/tests/%d", run.Number, test), &res); err != nil {
		return err
	}
	attempts := res.Results[pane].Attempts
	if len(attempts) == 0 {
		return usage("%s in %s has not been tried yet", res.Test.Name, run.Panes[pane].Label)
	}
	resp, err := c.Do(ctx, http.MethodGet, "/attempts/"+url.PathEscape(attempts[len(attempts)-1].ID)+"/files/output.log", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(raw)) {
		fmt.Fprintln(r.out, term.Tame(strings.TrimRight(line, "\r\n")))
	}
	return nil
}
