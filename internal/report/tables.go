package report

import (
	"cmp"
	"iter"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
)

// Results is a run as a table: a row for each test in each pane that has it.
func Results(run api.Run) Table {
	axes := []string{}
	for _, p := range run.Panes {
		for _, a := range triage.Axes(p.Values) {
			if !slices.Contains(axes, a) {
				axes = append(axes, a)
			}
		}
	}
	head := append([]string{"test", "combination"}, axes...)
	head = append(head, "ran on", "verdict", "attempts", "took ms", "agent", "message", "file", "tags")
	wide := append([]float64{40, 28}, make([]float64, len(axes))...)
	return Table{Name: "Results", Head: head, Wide: append(wide, 24, 0, 0, 0, 16, 60, 30), Rows: func(yield func([]any) bool) {
		for j, t := range run.Tests {
			for i, p := range run.Panes {
				c := run.Cells[i][j]
				if c.State == api.Undealt {
					continue
				}
				row := []any{t.Name, p.Label}
				for _, a := range axes {
					row = append(row, p.Values[a])
				}
				row = append(row, strings.TrimSpace(p.Info.Browser+" "+p.Info.Version), string(cmp.Or(c.Verdict, "open")), c.Attempts, c.TookMS,
					c.Agent,
					cmp.Or(c.Message, c.Why), t.File, strings.Join(t.Tags, " "))
				if !yield(row) {
					return
				}
			}
		}
	}}
}

// Panes are the combinations of a run as a table.
func Panes(run api.Run) Table {
	head := []string{"combination", "verdict"}
	for _, v := range verdict.All {
		head = append(head, v.Words())
	}
	return Table{Name: "Combinations", Head: append(head, "took ms", "agents"), Wide: []float64{32}, Rows: rows(run.Panes,
		func(p api.Pane) []any {
			row := []any{p.Label, string(cmp.Or(p.Verdict, "open"))}
			for _, v := range verdict.All {
				row = append(row, p.Counts[v])
			}
			return append(row, p.TookMS, strings.Join(p.Agents, ", "))
		})}
}

// CauseRows are what the failures of a run come from as a table.
func CauseRows(causes []api.Cause) Table {
	return Table{Name: "Causes", Head: []string{"failed", "kind", "cause", "reason", "tests", "combinations", "news", "first run", "runs",
		"p", "seen"},
		Wide: []float64{0, 0, 70, 40, 40, 40}, Rows: rows(causes, func(c api.Cause) []any {
			first, seen := 0, []string{}
			if c.First != nil {
				first = c.First.Run
			}
			for _, e := range c.Evidence {
				seen = append(seen, e.Text)
			}
			return []any{c.Failed, string(c.Kind), c.Sentence, c.Reason, strings.Join(c.Tests, "; "), strings.Join(c.Panes, "; "), string(c.News),
				first,
				c.Runs, c.P, strings.Join(seen, "; ")}
		})}
}

// Differences are what is different in a run as a table.
func Differences(c api.Compared) Table {
	return Table{Name: "Differences", Head: []string{"difference", "test", "combination", "was", "is", "message"},
		Wide: []float64{16, 40, 28, 0, 0, 60}, Rows: func(yield func([]any) bool) {
			for _, l := range []struct {
				what string
				all  []triage.Change
			}{{"broke", c.Broke}, {"mended", c.Mended}, {"fails otherwise", c.Otherwise}, {"lab fault", c.Lab}} {
				for _, x := range l.all {
					if !yield([]any{l.what, x.Test, x.Pane, string(x.Was), string(x.Is), x.Message}) {
						return
					}
				}
			}
			for _, l := range []struct {
				what string
				all  []triage.Slower
			}{{"slower", c.Slower}, {"faster", c.Faster}} {
				for _, x := range l.all {
					if !yield([]any{l.what, x.Test, strings.Join(x.Panes, "; "), x.WasMS, x.IsMS, nil}) {
						return
					}
				}
			}
			for _, x := range c.Renamed {
				if !yield([]any{"renamed", x.Is, nil, x.Was, x.Is, nil}) {
					return
				}
			}
			for _, l := range []struct {
				what       string
				all        []string
				combinings bool
			}{{"test added", c.Added, false}, {"test gone", c.Gone, false}, {"combination added", c.AddedIn, true},
				{"combination gone", c.GoneIn, true}} {
				for _, x := range l.all {
					row := []any{l.what, x, nil, nil, nil, nil}
					if l.combinings {
						row[1], row[2] = nil, x
					}
					if !yield(row) {
						return
					}
				}
			}
		}}
}

// TrendRows are trends as a table: a row for each day and value.
func TrendRows(t api.Trends) Table {
	head := []string{"day", t.By}
	for _, v := range verdict.All {
		head = append(head, string(v))
	}
	return Table{Name: "Trends", Head: head, Wide: []float64{12, 40}, Rows: func(yield func([]any) bool) {
		for _, g := range t.Groups {
			for _, d := range g.Days {
				row := []any{d.Day, g.Value}
				for _, v := range verdict.All {
					row = append(row, d.Counts[v])
				}
				if !yield(row) {
					return
				}
			}
		}
	}}
}

// LabRows are the days of a lab as a table.
func LabRows(t api.LabTrends) Table {
	return Table{Name: "Lab", Head: []string{"day", "attempts", "lab_faults", "busy_ms", "offered_ms", "waits", "wait_ms", "long_ms"},
		Wide: []float64{12}, Rows: rows(t.Days, func(d api.LabDay) []any {
			return []any{d.Day, d.Attempts, d.Faults, d.BusyMS, d.OfferedMS, d.Waits, d.WaitMS, d.LongMS}
		})}
}

// About is a run in a few lines, as a table of names and values.
func About(run api.Run, words api.Words) Table {
	all := [][]any{{"run", run.Number}, {"what became of it", words.Title}, {"project", run.Project}, {"suite", run.Suite}, {"matrix",
		run.Matrix},
		{"environment", run.Environment}, {"address", run.Base}, {"by", run.By}, {"made", run.CreatedAt}, {"ended", run.EndedAt},
		{"files", run.Request.Bundle}}
	return Table{Name: "Run", Head: []string{"", ""}, Wide: []float64{22, 90}, Rows: slices.Values(all)}
}

func rows[T any](all []T, row func(T) []any) iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		for _, x := range all {
			if !yield(row(x)) {
				return
			}
		}
	}
}
