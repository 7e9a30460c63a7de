package report

import (
	"fmt"
	"html"
	"io"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Badge draws how a suite stands as a small picture (SVG): a pane of glass whose fill says
// the verdict of its newest run by shape as well as colour, its name, and what its tests
// came to. run is nil where it has not ended any.
func Badge(w io.Writer, suite string, run *api.RunSummary) error {
	said, v := "no run yet", verdict.Pending
	if run != nil {
		v = run.Verdict
		said = plainOf(cameTo(api.Run{RunSummary: *run})[:1])
	}
	suite = Clip(suite)
	ink := fmt.Sprintf("#%02x%02x%02x", idleInk.R, idleInk.G, idleInk.B)
	if c, known := inks[v]; known {
		ink = fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B)
	}
	// Widths are those of DejaVu Sans at 11 pixels, as far as a mean letter has one; textLength
	// has every font keep to them.
	left, right := width(suite), width(said)
	_, err := fmt.Fprintf(w, `<svg xmlns="http://www.w3.org/2000/svg" width="%[1]d" height="22" role="img" aria-label="%[2]s: %[3]s">
<title>%[2]s: %[3]s</title>
<rect width="%[1]d" height="22" rx="3" fill="#13212a"/>
<rect x="5" y="4" width="14" height="14" rx="1.5" fill="#fbfcfb" stroke="%[4]s" stroke-width="1.5"%[5]s/>
%[6]s<g font-family="DejaVu Sans, Verdana, sans-serif" font-size="11" fill="#e6eef0"><text x="26" y="15" textLength="%[7]d">%[2]s</text>
<text x="%[8]d" y="15" fill="#93a9b3" textLength="%[9]d">%[3]s</text></g>
</svg>
`, 26+left+10+right+8, html.EscapeString(suite), html.EscapeString(said), ink, dashes(v), fill(v, ink), left, 26+left+10, right)
	if err != nil {
		return fmt.Errorf("write SVG: %w", err)
	}
	return nil
}

func width(s string) int { return 13 * len([]rune(s)) / 2 }

func dashes(v verdict.Verdict) string {
	if v == verdict.LabFault {
		return ` stroke-dasharray="3 2"`
	}
	return ""
}

// fill is what a pane of glass is filled with, by its verdict.
func fill(v verdict.Verdict, ink string) string {
	d := map[verdict.Verdict]string{verdict.Passed: "M7 6h10v10H7z", verdict.Failed: "M7 6h10L7 16z", verdict.Aside: "M17 6v10H7z",
		verdict.Flaky: "M7 6h5v10H7z"}[v]
	if d == "" {
		return ""
	}
	return `<path d="` + d + `" fill="` + ink + `"/>` + "\n"
}
