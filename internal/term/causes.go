package term

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/dustin/go-humanize"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
)

// maxNamed bounds how many tests or panes a line names.
const maxNamed = 4

// maxSeen bounds what is told of one thing that was seen, in bytes.
const maxSeen = 160

var bold = lipgloss.NewStyle().Bold(true)

// Causes writes what the failures of a run come from.
func Causes(w io.Writer, c api.Causes) {
	if len(c.Causes) == 0 {
		fmt.Fprintln(w, "Nothing failed"+map[bool]string{true: ".", false: " so far."}[c.Ended])
		return
	}
	if !c.Ended && c.Run > 0 {
		fmt.Fprintln(w, Faint("The run goes on: more may come."))
	}
	for i, x := range c.Causes {
		v := verdictOf(x.Kind)
		if i > 0 {
			fmt.Fprintln(w)
		}
		what, how := halves(Tame(x.Sentence))
		fmt.Fprintf(w, "%s %s %s%s\n", Faint(strconv.Itoa(i+1)), Paint(v, Shapes[v]), bold.Render(what), news(x))
		if how != "" {
			fmt.Fprintln(w, "  "+how)
		}
		fmt.Fprintf(w, "  %-6s%s\n", "kind", string(x.Kind)+Faint(": "+x.Reason))
		fmt.Fprintf(w, "  %-6s%s\n", "tests", names(x.Tests, "tests"))
		fmt.Fprintf(w, "  %-6s%s\n", "on", names(x.Panes, "combinations"))
		if len(x.Pattern) > 0 {
			fmt.Fprintf(w, "  %-6s%s\n", "sure", Faint("by chance with probability "+triage.Chance(x.P)+", over all that was asked"))
		}
		for _, e := range x.Evidence[:min(len(x.Evidence), maxNamed)] {
			of := fmt.Sprintf(" in %d of %d that fail", e.In, e.Of)
			if e.Passed > 0 {
				of += fmt.Sprintf(", in none of %d that pass", e.Passed)
			}
			said, _, _ := strings.Cut(e.Text, "\n")
			fmt.Fprintf(w, "  %-6s%s\n", "seen", Tame(attempt.Clip(said, maxSeen))+Faint(of+", "+string(e.Kind)))
		}
		if x.First != nil && x.Runs > 1 {
			fmt.Fprintf(w, "  %-6s%s\n", "since", fmt.Sprintf("#%d, in %d runs", x.First.Run, x.Runs))
		}
		if d := x.Defect; d != nil {
			fmt.Fprintf(w, "  %-6s%s, %s %s\n", "defect", Tame(" "+keyOf(*d)), standing(*d), Faint(Tame(d.Link)))
		}
	}
	fmt.Fprintf(w, "\n%s in %s\n", Number(c.Failed, "failing cell"), Number(len(c.Causes), "cause"))
}

// halves parts a sentence into what fails, and where and why.
func halves(sentence string) (what, how string) {
	const link = ": fails in "
	if i := strings.LastIndex(sentence, link); i >= 0 {
		return sentence[:i], sentence[i+2:]
	}
	return sentence, ""
}

func verdictOf(k triage.Kind) verdict.Verdict {
	if k == triage.Lab {
		return verdict.LabFault
	}
	return verdict.Failed
}

// news says what is new of a cause.
func news(x api.Cause) string {
	switch {
	case x.News == "" || x.First == nil && x.Runs <= 1 && x.News == api.KnownCause:
		return ""
	case x.News == api.NewCause && x.SinceGreen:
		return " " + Paint(verdict.Failed, "new since the last green run")
	case x.News == api.NewCause:
		return " " + Paint(verdict.Failed, "new")
	case x.News == api.BackAgain:
		return " " + Paint(verdict.Flaky, "back again")
	}
	return " " + Faint("known")
}

// names lists some, and says how many more there are.
func names(all []string, what string) string {
	if len(all) <= maxNamed+1 {
		return Tame(strings.Join(all, ", "))
	}
	return Tame(strings.Join(all[:maxNamed], ", ")) + Faint(strings.TrimRight(fmt.Sprintf(" and %d more %s", len(all)-maxNamed, what), " "))
}

// Compared writes what is different in a run.
func Compared(w io.Writer, c api.Compared) {
	fmt.Fprintln(w, bold.Render(c.Words))
	if c.Pace > 0 && (c.Pace > 1.1 || c.Pace < 0.9) {
		fmt.Fprintln(w, Faint(fmt.Sprintf("Everything takes %.2f times as long; what is slower is so beyond that.", c.Pace)))
	}
	changes := func(head string, v verdict.Verdict, cs []triage.Change) {
		if len(cs) == 0 {
			return
		}
		fmt.Fprintf(w, "\n%s\n", Paint(v, Shapes[v]+" "+head))
		byTest, order := map[string][]string{}, []string{}
		said := map[string]string{}
		for _, x := range cs {
			if byTest[x.Test] == nil {
				order = append(order, x.Test)
				said[x.Test], _, _ = strings.Cut(x.Message, "\n")
			}
			byTest[x.Test] = append(byTest[x.Test], x.Pane)
		}
		for _, t := range order {
			fmt.Fprintf(w, "  %s %s\n", Tame(t), Faint("on "+names(byTest[t], "combinations")))
			if said[t] != "" {
				fmt.Fprintf(w, "    %s\n", Faint(Tame(said[t])))
			}
		}
	}
	changes("broke", verdict.Failed, c.Broke)
	for _, x := range c.Causes {
		fmt.Fprintf(w, "  %s %s%s\n", Faint("cause"), Tame(x.Sentence), news(x))
	}
	changes("mended", verdict.Passed, c.Mended)
	changes("fails of another cause", verdict.Failed, c.Otherwise)
	changes("lab fault in one of them", verdict.LabFault, c.Lab)
	paces := func(head string, all []triage.Slower) {
		if len(all) > 0 {
			fmt.Fprintf(w, "\n%s\n", Paint(verdict.Flaky, head))
		}
		for _, s := range all {
			on := ""
			if len(s.Panes) > 0 {
				on = Faint(" on " + names(s.Panes, "combinations"))
			}
			fmt.Fprintf(w, "  %s %s → %s%s\n", Tame(s.Test), Millis(s.WasMS), Millis(s.IsMS), on)
		}
	}
	paces("slower", c.Slower)
	paces("faster", c.Faster)
	renamed := make([]string, len(c.Renamed))
	for i, x := range c.Renamed {
		renamed[i] = x.Was + " → " + x.Is
	}
	for _, l := range []struct {
		head string
		all  []string
	}{{"tests added", c.Added}, {"tests gone", c.Gone}, {"combinations added", c.AddedIn}, {"combinations gone", c.GoneIn},
		{"renamed", renamed}} {
		if len(l.all) > 0 {
			fmt.Fprintf(w, "\n%s: %s\n", l.head, names(l.all, ""))
		}
	}
}

// Sides lists what a suite's runs can be compared by.
func Sides(w io.Writer, s api.Sides) {
	if len(s.Sides) == 0 {
		fmt.Fprintf(w, "No run of %s has ended yet: pane run starts one.\n", Tame(s.Project+" "+s.Suite))
		return
	}
	t := NewTable("side", "what it is", "newest run", "made")
	for _, x := range s.Sides {
		t.Row(Tame(x.Words), Tame(x.About), "#"+strconv.Itoa(x.Run), humanize.Time(*x.At))
	}
	fmt.Fprintln(w, t)
	fmt.Fprintln(w, Faint(fmt.Sprintf("of %s; compare two with pane compare \"SIDE\" \"SIDE\"", Tame(s.Project+" "+s.Suite))))
}

// Unsteady writes the tests whose verdict changes without their files.
func Unsteady(w io.Writer, all []api.UnsteadyTest) {
	if len(all) == 0 {
		fmt.Fprintln(w, "No test is unsteady: none passed only when it was run again, nor failed and passed with the same files.")
		return
	}
	t := NewTable("test", "combination", "off", "rate", "between", "wasted", "runs, oldest first")
	for _, x := range all {
		for i, p := range x.In {
			name := ""
			if i == 0 {
				name = Tame(x.Test) + Faint(" "+Tame(x.Suite))
			}
			t.Row(name, Tame(p.Label), fmt.Sprintf("%d of %d", p.Off, p.Trials), Percent(p.Rate), Percent(p.Low)+" … "+Percent(p.High),
				Took(time.Duration(p.WasteMS)*time.Millisecond), strip(p.Strip))
		}
		if x.Trigger != "" {
			t.Row("", Faint("most "+Tame(x.Trigger)), "", "", "", "", "")
		}
	}
	fmt.Fprintln(w, t)
	fmt.Fprintln(w, Faint("■ passed  ◧ passed when run again  ◩ failed  ⬚ lab fault"))
}

// Percent is a rate for people.
func Percent(p float64) string { return fmt.Sprintf("%.0f %%", 100*p) }

func strip(s string) string {
	var b strings.Builder
	for _, r := range s {
		v := map[rune]verdict.Verdict{'p': verdict.Passed, 'f': verdict.Failed, 'y': verdict.Flaky, 'l': verdict.LabFault,
			'a': verdict.Aside, 'n': verdict.Ended, 's': verdict.Skipped, 'u': verdict.Unsupported}[r]
		b.WriteString(Paint(v, Shapes[v]))
	}
	return b.String()
}
