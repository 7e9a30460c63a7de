package cli

import (
	"context"
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/term"
)

// maxShakes bounds how often a test is repeated.
const maxShakes = 200

// shaking is what becomes of a test that is repeated.
type shaking struct {
	c      *client.Client
	number int // of the run that is repeated
	test   string
	times  int
	until  float64 // half of an interval's width
}

func (r *root) shakeCmd() *cobra.Command {
	s, run := shaking{}, ""
	cmd := &cobra.Command{
		Use: "shake TEST", Short: "Repeat a test until the rate at which it fails is known", Args: cobra.ExactArgs(1),
		Long: "Repeat a test of a run in its combinations, without retries, until the rate at which it fails is known to so much,\n" +
			"or so many times. Each repetition is a run of its own, marked as one of that run; pane unsteady counts\n" +
			"it.\n\n" +
			"Exit code: 0 it never failed, 1 it did, 3 nothing could be tried.",
		Example: "  pane shake \"Hold a berth\" --times 30\n  pane shake \"Hold a berth\" --run 812 --until 0.1",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			switch {
			case s.times < 1 || s.times > maxShakes:
				return usage("--times: expected 1 to %d, found %d", maxShakes, s.times)
			case s.until < 0 || s.until > 0.5:
				return usage("--until: expected 0 to 0.5, found %g", s.until)
			}
			var which []string
			if run != "" {
				which = []string{run}
			}
			if s.c, s.number, err = r.newestOr(cmd.Context(), which); err != nil {
				return err
			}
			s.test = args[0]
			return r.shake(cmd.Context(), s)
		},
	}
	cmd.Flags().StringVar(&run, "run", "", "the run whose files and combinations it takes; the newest if not given")
	cmd.Flags().IntVar(&s.times, "times", 20, "at most so often, up to 200")
	cmd.Flags().Float64Var(&s.until, "until", 0, "stop once each rate is known to plus or minus this, such as 0.1")
	return cmd
}

// shaken is how often the test failed in one combination.
type shaken struct {
	Label  string  `json:"label"`
	Failed int     `json:"failed"`
	Tried  int     `json:"tried"`
	Rate   float64 `json:"rate"`
	Low    float64 `json:"low"`
	High   float64 `json:"high"`
	Runs   []int   `json:"failed_in"` // numbers
}

func (r *root) shake(ctx context.Context, s shaking) error {
	var all []*shaken
	by := map[string]*shaken{}
	for i := range s.times {
		run, err := s.once(ctx)
		if err != nil {
			return err
		}
		for p, row := range run.Cells {
			x := by[run.Panes[p].Key]
			if x == nil {
				x = &shaken{Label: run.Panes[p].Label, Runs: []int{}}
				by[run.Panes[p].Key], all = x, append(all, x)
			}
			for _, c := range row {
				switch c.Verdict {
				case verdict.Failed:
					x.Failed, x.Tried, x.Runs = x.Failed+1, x.Tried+1, append(x.Runs, run.Number)
				case verdict.Passed, verdict.Flaky:
					x.Tried++
				}
			}
		}
		known, failed, tried := true, 0, 0
		for _, x := range all {
			x.Low, x.High = triage.Wilson(x.Failed, x.Tried)
			x.Rate = float64(x.Failed) / float64(max(1, x.Tried))
			known = known && (x.High-x.Low)/2 <= s.until
			failed, tried = failed+x.Failed, tried+x.Tried
		}
		fmt.Fprintf(r.err, "#%d, %d of at most %d: failed %d of %d\n", run.Number, i+1, s.times, failed, tried)
		if known && s.until > 0 {
			break
		}
	}
	if r.json {
		if err := r.writeJSON(map[string]any{"test": s.test, "run": s.number, "combinations": all}); err != nil {
			return err
		}
	} else {
		t := term.NewTable("combination", "failed", "rate", "between", "failed in")
		for _, x := range all {
			in := ""
			for i, n := range x.Runs {
				if in += fmt.Sprintf("#%d ", n); i == 4 && len(x.Runs) > 5 {
					in += fmt.Sprintf("and %d more", len(x.Runs)-5)
					break
				}
			}
			t.Row(term.Tame(x.Label), fmt.Sprintf("%d of %d", x.Failed, x.Tried), term.Percent(x.Rate),
				term.Percent(x.Low)+" … "+term.Percent(x.High), in)
		}
		fmt.Fprintln(r.out, t)
	}
	failed, tried := 0, 0
	for _, x := range all {
		failed, tried = failed+x.Failed, tried+x.Tried
	}
	switch {
	case failed > 0:
		return silent(verdict.ExitFailed)
	case tried == 0:
		return silent(verdict.ExitLab)
	}
	return nil
}

// once runs the test once in every combination, and waits for its end.
func (s shaking) once(ctx context.Context) (run api.Run, err error) {
	q := api.AgainRequest{Tests: []string{s.test}, Retries: new(int)}
	if err = s.c.Call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/again", s.number), q, &run); err != nil {
		return run, err
	}
	err = s.c.Follow(ctx, run.Number, func(fresh api.Run) bool { return fresh.State == api.Ended },
		func(e api.Event) bool { return e.Run != nil && e.Run.State == api.Ended })
	if ctx.Err() != nil { // what was begun ends with whoever asked for it
		return run, interrupted(s.c, run.Number)
	}
	if err != nil {
		return run, err
	}
	return run, s.c.Get(ctx, fmt.Sprintf("/runs/%d", run.Number), &run)
}
