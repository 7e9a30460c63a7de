package report

import (
	"fmt"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// maxDayRuns bounds the runs that the words of a day name.
const maxDayRuns = 40

// Day says in a few lines what became of the runs of a project on a day, those that did not
// pass first. link is where a run is found; "" leaves it out.
func Day(project, day string, runs []api.RunSummary, link func(run int) string) api.Words {
	bad := 0
	var first, rest []api.RunSummary
	for _, r := range runs {
		if r.Verdict == verdict.Failed || r.Verdict == verdict.LabFault {
			bad++
			first = append(first, r)
		} else {
			rest = append(rest, r)
		}
	}
	head := []part{said("%s on %s: ", project, day)}
	switch {
	case len(runs) == 0:
		head = append(head, part{text: "nothing ran", strong: true})
	case bad == 0:
		head = append(head, part{text: counted(len(runs), "run") + ", none failed", strong: true})
	default:
		head = append(head, part{text: fmt.Sprintf("%d of %s failed", bad, counted(len(runs), "run")), strong: true})
	}
	var items [][]part
	for _, r := range append(first, rest...) {
		if len(items) == maxDayRuns {
			items = append(items, []part{said("and %d more", len(runs)-maxDayRuns)})
			break
		}
		items = append(items, headOf(api.Run{RunSummary: r}, link(r.Number)))
	}
	return api.Words{Title: plainOf(head), Text: textOf(head, items, ""), Markdown: markdownOf(head, items), HTML: htmlOf(head, items)}
}
