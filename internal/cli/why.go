package cli

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/term"
)

func (r *root) whyCmd() *cobra.Command {
	var project string
	cmd := &cobra.Command{
		Use:   "why NEED…",
		Short: "Say which agents meet some needs, and what the others lack",
		Long: `Say which agents could do work with some needs: idle, busy or away; for the others what each lacks.
A need is FACT=VALUE, with several values as A|B and bounds as >=N: browser=firefox, version=>=140,
os=linux|macos, cores=>=4, site=quay, agent=NAME.

Exit code: 0 somebody can, 3 nobody can.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var w api.Why
			q := url.Values{"needs": {strings.Join(args, " ")}}
			if project != "" {
				q.Set("project", project)
			}
			if err := c.Get(cmd.Context(), "/why?"+q.Encode(), &w); err != nil {
				return err
			}
			if r.json {
				err = r.writeJSON(w)
			} else {
				r.writeWhy(w)
			}
			if err == nil && !w.Possible() {
				return silent(verdict.ExitLab)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&project, "project", "", "only agents that serve this project")
	return cmd
}

func (r *root) writeWhy(w api.Why) {
	n := len(w.Idle) + len(w.Busy) + len(w.Away)
	switch {
	case n == 0:
		fmt.Fprintf(r.out, "Nobody can: %s\n", w.Why)
	case n == 1:
		fmt.Fprintf(r.out, "1 agent can do %s\n", w.Needs.Plain())
	default:
		fmt.Fprintf(r.out, "%d agents can do %s\n", n, w.Needs.Plain())
	}
	for _, name := range w.Idle {
		fmt.Fprintf(r.out, "  %s %s  idle\n", term.Paint(verdict.Passed, "■"), name)
	}
	for _, name := range w.Busy {
		fmt.Fprintf(r.out, "  %s %s  busy\n", term.Paint(verdict.Flaky, "◧"), name)
	}
	for _, name := range slices.Sorted(maps.Keys(w.Away)) {
		fmt.Fprintf(r.out, "  %s %s  %s\n", term.Paint(verdict.Pending, "□"), name, w.Away[name])
	}
	if len(w.Nearest) == 0 {
		return
	}
	lacking := "The others lack:"
	if n == 0 {
		lacking = "Each agent lacks:"
	}
	fmt.Fprintf(r.out, "\n%s\n", lacking)
	for _, g := range w.Alike() {
		var lacks []string
		for _, l := range g.Lacks {
			lacks = append(lacks, l.String())
		}
		fmt.Fprintf(r.out, "  %s\n      %s\n", strings.Join(g.Agents, ", "), term.Faint(strings.Join(lacks, "; ")))
	}
}

func (r *root) forecastCmd() *cobra.Command {
	var fleetFile, more string
	var run, limit int
	cmd := &cobra.Command{
		Use:   "forecast [FILE]",
		Short: "Say when tests would end on a fleet, with more agents or another limit, and what the bound is",
		Long: `Simulate the scheduler in virtual time. FILE is JSON with tests (id, seconds, needs), agents (name,
slots, facts) and known_durations; no service is needed. With --run the tests are those of a run with the
durations they had, on the agents that take work now.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			counts, err := numbers(more)
			if err != nil {
				return usage("--more: %v", err)
			}
			if (len(args) == 1) == (run > 0) {
				return usage("expected either a file or --run with the number of a run")
			}
			var f api.ForecastAnswer
			if run > 0 {
				c, err := r.client()
				if err != nil {
					return err
				}
				if err := c.Call(cmd.Context(), "POST", "/forecasts", api.ForecastRequest{Run: run, Limit: limit, More: counts}, &f); err != nil {
					return err
				}
			} else if f, err = forecastFile(cmd.Context(), args[0], fleetFile, limit, counts); err != nil {
				return usage("%v", err)
			}
			if r.json {
				return r.writeJSON(f)
			}
			r.writeForecast(f)
			return nil
		},
	}
	cmd.Flags().IntVar(&run, "run", 0, "number of a run whose tests to forecast")
	cmd.Flags().StringVar(&fleetFile, "fleet", "", "JSON file whose agents to take instead of those of FILE")
	cmd.Flags().IntVar(&limit, "limit", 0, "most slots at once; 0 means all")
	cmd.Flags().StringVar(&more, "more", "0,1,2,4,8,16", "also with so many more agents, each a copy of the one that helps most")
	return cmd
}

func numbers(list string) (out []int, err error) {
	for _, word := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' }) {
		var n int
		if _, err := fmt.Sscanf(word, "%d", &n); err != nil || n < 0 || n > 500 {
			return nil, fmt.Errorf("expected numbers from 0 to 500 such as 0,1,2,4, found %q", word)
		}
		out = append(out, n)
	}
	return out, nil
}

// maxForecastBytes bounds a forecast's file.
const maxForecastBytes = 64 << 20

func forecastFile(ctx context.Context, file, fleetFile string, limit int, more []int) (f api.ForecastAnswer, err error) {
	read := func(name string) ([]byte, error) {
		if info, err := os.Stat(name); err == nil && info.Size() > maxForecastBytes {
			return nil, fmt.Errorf("%s is larger than %d MiB", name, maxForecastBytes>>20)
		}
		return os.ReadFile(name)
	}
	raw, err := read(file)
	if err != nil {
		return f, err
	}
	q, err := plan.Decode(raw)
	if err != nil {
		return f, fmt.Errorf("%s: %w", file, err)
	}
	if fleetFile != "" {
		raw, err := read(fleetFile)
		if err != nil {
			return f, err
		}
		other, err := plan.Decode(raw)
		if err != nil {
			return f, fmt.Errorf("%s: %w", fleetFile, err)
		}
		q.Agents = other.Agents
	}
	if limit != 0 {
		q.Limit = limit
	}
	if f.Forecast, err = q.Run(ctx); err != nil {
		return f, fmt.Errorf("%s: %w", file, err)
	}
	f.WhatIf, f.Knee, err = q.WhatIf(ctx, more)
	return f, err
}

func seconds(s float64) string { return term.Took(time.Duration(s * float64(time.Second))) }

func (r *root) writeForecast(f api.ForecastAnswer) {
	over := "–"
	if f.LowerBound > 0 {
		over = fmt.Sprintf("%.3f", f.Makespan/f.LowerBound)
	}
	fmt.Fprintf(r.out, "It would end after %s. No schedule could end before %s (%s of it); the slots are %.0f%% busy.\n",
		seconds(f.Makespan), seconds(f.LowerBound), over, 100*f.Utilisation)
	if n := len(f.Impossible); n > 0 {
		fmt.Fprintf(r.out, "%s can run nowhere, such as %s: %s\n", term.Number(n, "test"), f.Impossible[0].ID, f.Impossible[0].Why)
	}
	if len(f.WhatIf) == 0 {
		return
	}
	longest := 0.0
	for _, k := range f.WhatIf {
		longest = max(longest, k.Makespan)
	}
	t := term.NewTable("agents", "slots", "ends after", "bound", "", "added")
	for _, k := range f.WhatIf {
		bar := ""
		if longest > 0 {
			bar = strings.Repeat("█", max(1, int(40*k.Makespan/longest)))
		}
		if k.Agents == f.Knee {
			bar += " knee"
		}
		var added []string
		for _, name := range slices.Sorted(maps.Keys(k.Copies)) {
			added = append(added, fmt.Sprintf("%d like %s", k.Copies[name], name))
		}
		t.Row(fmt.Sprint(k.Agents), fmt.Sprint(k.Slots), seconds(k.Makespan), seconds(k.Bound), bar, strings.Join(added, ", "))
	}
	fmt.Fprintf(r.out, "\n%s\n", t)
	if last := f.WhatIf[len(f.WhatIf)-1]; f.Knee > 0 && f.Knee < last.Agents {
		fmt.Fprintf(r.out, "\nWith more than %d agents each further one saves little.\n", f.Knee)
	}
}
