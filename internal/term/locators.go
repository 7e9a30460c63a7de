package term

import (
	"fmt"
	"io"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Aged writes which locators of a run find nothing any more.
func Aged(w io.Writer, a api.AgedLocators) {
	if len(a.Locators) == 0 {
		fmt.Fprintf(w, "No locator of run #%d has lost what it found when its test last passed.\n", a.Run)
		return
	}
	for i, l := range a.Locators {
		if i > 0 {
			fmt.Fprintln(w)
		}
		v := verdict.Failed
		if l.Failed == 0 {
			v = verdict.Flaky
		}
		fmt.Fprintf(w, "%s %s %s\n", Paint(v, Shapes[v]), bold.Render(Tame(l.Was)+" finds nothing any more"), Faint(l.At.String()))
		row := func(name, text string) { fmt.Fprintf(w, "  %-8s%s\n", name, text) }
		row("likely", Tame(l.Element)+Faint(fmt.Sprintf(": the same with %s, the next with %s", probability(l.Sure), probability(l.Next))))
		row("same", strings.Join(l.Same, ", "))
		if len(l.Other) > 0 {
			row("changed", strings.Join(l.Other, ", "))
		}
		if l.Now != "" {
			row("now", Tame(l.Now))
		} else {
			row("now", Faint("nothing finds it alone: give it a mark for tests"))
		}
		for _, o := range l.Also {
			row("or", Tame(o)+Faint(" in other combinations"))
		}
		row("tests", names(l.Tests, "tests"))
		row("cells", fmt.Sprintf("%d failed, %d went on with it", l.Failed, l.Accepted))
	}
	fmt.Fprintf(w, "\n%s; pane mend %d --patch prints the change for the scripts\n", Number(len(a.Locators), "locator"), a.Run)
	for _, why := range a.Left {
		fmt.Fprintf(w, "%s\n", Faint("not in the patch: "+Tame(why)))
	}
}

// probability is one for people: never all or nothing unless it is.
func probability(p float64) string {
	switch {
	case p > 0.999 && p < 1:
		return "> 99.9 %"
	case p < 0.001 && p > 0:
		return "< 0.1 %"
	}
	return fmt.Sprintf("%.1f %%", 100*p)
}
