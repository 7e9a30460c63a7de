package term

import (
	"fmt"
	"io"

	"parallelpane/internal/api"
)

// Located writes what a locator finds on a page that was kept.
func Located(w io.Writer, l api.Located) {
	fmt.Fprintln(w, l.Words)
	for i, e := range l.Found {
		state := fmt.Sprintf("at %.0f,%.0f, %.0f×%.0f", e.Place[0], e.Place[1], e.Place[2], e.Place[3])
		if e.Hidden != "" {
			state = "hidden: " + e.Hidden
		} else if e.Cover != "" {
			state += ", covered by " + e.Cover
		}
		fmt.Fprintf(w, "  %d. %s %s\n", i+1, Tame(e.String()), Faint(Tame(state)))
		if e.Better != "" {
			fmt.Fprintf(w, "     %s %s\n", Faint("alone:"), Tame(e.Better))
		}
	}
	if n := l.Total - len(l.Found); n > 0 {
		fmt.Fprintf(w, "  and %d more\n", n)
	}
	if l.Lines != "" {
		fmt.Fprintf(w, "\n%s\n%s\n", Faint("The step with it:"), l.Lines)
	}
}
