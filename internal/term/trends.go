package term

import (
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// bars are the parts of a bar that is one character high.
var bars = []rune("▁▂▃▄▅▆▇█")

// spark draws numbers from 0 to most, a character each; a gap where there is none.
func spark(of []float64, most float64) string {
	var b strings.Builder
	for _, x := range of {
		if math.IsNaN(x) {
			b.WriteRune('·')
			continue
		}
		i := 0
		if most > 0 {
			i = int(math.Round(x / most * float64(len(bars)-1)))
		}
		b.WriteRune(bars[max(0, min(i, len(bars)-1))])
	}
	return b.String()
}

// maxSpark bounds how many days a line shows.
const maxSpark = 30

// Trends writes what fails how often.
func Trends(w io.Writer, t api.Trends) {
	if len(t.Groups) == 0 {
		fmt.Fprintf(w, "Nothing ran from %s to %s with such values: look further back with --days, or --by something else.\n", t.From, t.To)
		return
	}
	days := t.Days[max(0, len(t.Days)-maxSpark):]
	table := NewTable(t.By, "failed", "set aside", "rate", "between", "flaky", "lab faults", "ran", "rate by day")
	for _, g := range t.Groups {
		failed := g.Counts[verdict.Failed] + g.Counts[verdict.Aside]
		told := g.Counts[verdict.Passed] + failed + g.Counts[verdict.Flaky]
		by := map[string]verdict.Counts{}
		for _, d := range g.Days {
			by[d.Day] = d.Counts
		}
		var line []float64
		for _, d := range days {
			c := by[d.Day]
			if n := c[verdict.Passed] + c[verdict.Failed] + c[verdict.Aside] + c[verdict.Flaky]; n > 0 {
				line = append(line, float64(c[verdict.Failed]+c[verdict.Aside])/float64(n))
			} else {
				line = append(line, math.NaN())
			}
		}
		table.Row(Tame(g.Value), fmt.Sprint(g.Counts[verdict.Failed]), fmt.Sprint(g.Counts[verdict.Aside]), Percent(g.Rate),
			Percent(g.Low)+" … "+Percent(g.High),
			fmt.Sprint(g.Counts[verdict.Flaky]), fmt.Sprint(g.Counts[verdict.LabFault]), fmt.Sprint(told), Paint(verdict.Failed, spark(line, 1)))
	}
	fmt.Fprintln(w, table)
	fmt.Fprintln(w, Faint(fmt.Sprintf("%s to %s, %s on which something ran", t.From, t.To, Number(len(t.Days), "day"))))
}

// LabTrends writes how the lab was used, by day and by agent.
func LabTrends(w io.Writer, t api.LabTrends) {
	if len(t.Days) == 0 {
		fmt.Fprintf(w, "Nothing ran from %s to %s, and no agent was online: look further back with --days.\n", t.From, t.To)
		return
	}
	use := func(x api.LabWork) string {
		if x.OfferedMS == 0 {
			return "–"
		}
		return Percent(float64(x.BusyMS) / float64(x.OfferedMS))
	}
	took := func(ms int64) string { return Took(time.Duration(ms) * time.Millisecond) }
	days := NewTable("day", "slots used", "busy", "attempts", "lab faults", "waited", "median", "nine of ten within")
	for _, d := range t.Days {
		wait, long := "", ""
		if d.Waits > 0 {
			wait, long = took(d.WaitMS), took(d.LongMS)
		}
		days.Row(d.Day, use(d.LabWork), took(d.BusyMS), fmt.Sprint(d.Attempts), fmt.Sprint(d.Faults), fmt.Sprint(d.Waits), wait, long)
	}
	fmt.Fprintln(w, days)
	agents := NewTable("agent", "slots used", "busy", "attempts", "lab faults", "rate", "between")
	for _, a := range t.Agents {
		agents.Row(Tame(a.Agent), use(a.LabWork), took(a.BusyMS), fmt.Sprint(a.Attempts), fmt.Sprint(a.Faults), Percent(a.Rate),
			Percent(a.Low)+" … "+Percent(a.High))
	}
	fmt.Fprintln(w, agents)
	fmt.Fprintln(w, Faint("Slots used: of the slot time that agents offered while online. Waited: runs, and sessions of a runner."))
}

// Slow writes what became slower, what takes long, and which combinations are slow.
func Slow(w io.Writer, all []api.Slow) {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nothing has run yet that is like that: pane run starts a suite.")
		return
	}
	for i, s := range all {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, bold.Render(Tame(s.Project+" "+s.Suite))+Faint(fmt.Sprintf(", the last %s", Number(s.Runs, "run"))))
		for _, x := range s.Turns {
			how := "slower"
			if x.Turn.Ratio < 1 {
				how = "faster"
			}
			fmt.Fprintf(w, "  %s %s: %s → %s since #%d %s\n", how, Tame(x.Test), Millis(x.Turn.WasMS), Millis(x.Turn.IsMS), x.Turn.Run,
				Faint(series(x.Series)))
		}
		if len(s.Turns) == 0 {
			fmt.Fprintln(w, Faint("  No test became slower or faster for certain."))
		}
		if len(s.Paces) > 1 {
			var parts []string
			for _, p := range s.Paces {
				parts = append(parts, fmt.Sprintf("%s ×%.2f", Tame(p.Pane), p.Ratio))
			}
			fmt.Fprintf(w, "  combinations against the median: %s\n", names(parts, "combinations"))
		}
		for _, x := range s.Over[:min(5, len(s.Over))] {
			fmt.Fprintf(w, "  over its limit of %s %s: %s, in %s, %s on %s\n", Millis(x.LimitMS), Number(x.Times, "time"), Tame(x.Title),
				Tame(x.Test), Millis(x.WorstMS), Tame(x.On))
		}
		for _, x := range s.Lags[:min(5, len(s.Lags))] {
			fmt.Fprintf(w, "  lags on %s: %s, in %s, %s, elsewhere %s\n", names(x.Panes, "combinations"), Tame(x.Step), Tame(x.Test), Millis(x.MS),
				Millis(x.ElsewhereMS))
		}
		t := NewTable("longest", "median", "by run")
		for _, x := range s.Longest[:min(5, len(s.Longest))] {
			t.Row(Tame(x.Test), Millis(x.MS), series(x.Series))
		}
		fmt.Fprintln(w, t)
	}
}

func series(points []api.SlowPoint) string {
	points = points[max(0, len(points)-maxSpark):]
	var line []float64
	most := 0.0
	for _, p := range points {
		line = append(line, float64(p.MS))
		most = max(most, float64(p.MS))
	}
	return spark(line, most)
}

// Overview writes what is going on.
func Overview(w io.Writer, o api.Overview) {
	head := func(s string) { fmt.Fprintln(w, "\n"+bold.Render(s)) }
	fmt.Fprintf(w, "%s online, %d of %d slots taken\n", Number(o.Lab.Online, "agent"), o.Lab.Used, o.Lab.Slots)
	for _, a := range o.Lab.Away {
		fmt.Fprintf(w, "  %s takes no work: %s\n", Tame(a.Agent), Tame(a.Because))
	}
	for _, f := range o.Lab.Faults {
		on := "on " + Tame(f.Agent)
		if f.Agent == "" {
			on = "before an agent was reached"
		}
		fmt.Fprintf(w, "  %s %s within a day\n", Paint(verdict.LabFault, Number(f.Faults, "lab fault")), on)
	}
	if o.Lab.Full != "" {
		fmt.Fprintln(w, "  "+Tame(o.Lab.Full))
	}
	if len(o.Running)+len(o.Waiting) > 0 {
		head("Running and waiting")
	}
	for _, r := range o.Running {
		fmt.Fprintf(w, "  #%d %s: %s\n", r.Number, Tame(r.Project+" "+r.Suite), Counts(r.Counts))
	}
	for _, r := range o.Waiting {
		fmt.Fprintf(w, "  #%d %s waits: %s\n", r.Number, Tame(r.Project+" "+r.Suite), Tame(r.Because))
	}
	head("How suites stand")
	for _, s := range o.Suites {
		fmt.Fprintf(w, "%s %s %s\n", Paint(s.Run.Verdict, Shapes[s.Run.Verdict]), Tame(s.Run.Project+" "+s.Run.Suite),
			Faint(fmt.Sprintf("#%d: %s", s.Run.Number, Counts(s.Run.Counts))))
		for _, c := range s.Causes {
			what, how := halves(Tame(c.Sentence))
			fmt.Fprintf(w, "    %s%s\n", what, news(c))
			if how != "" {
				fmt.Fprintln(w, Faint("      "+how))
			}
		}
		if s.More > 0 {
			fmt.Fprintf(w, "    %s\n", Faint(fmt.Sprintf("and %s: pane causes %d", Number(s.More, "more cause"), s.Run.Number)))
		}
	}
	if len(o.Suites) == 0 {
		fmt.Fprintln(w, "  No suite has run within two weeks: pane run starts one.")
	}
	if len(o.Unsteady) > 0 {
		head("Unsteady")
		for _, u := range o.Unsteady {
			p := u.In[0]
			fmt.Fprintf(w, "  %s: off in %d of %d on %s, %s wasted\n", Tame(u.Test), p.Off, p.Trials, Tame(p.Label),
				Took(time.Duration(u.WasteMS)*time.Millisecond))
		}
	}
	if len(o.Next) > 0 {
		head("Next by itself")
		for _, n := range o.Next {
			fmt.Fprintf(w, "  %s %s by %s\n", n.At.Local().Format("Mon 2 Jan 15:04"), Tame(n.Preset), Tame(n.Schedule))
		}
	}
}
