// Package term is what is written to a terminal: tables, walls, the lines of a run as
// it goes, faults with where to read on. It calls nobody.
package term

import (
	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/lipgloss/table"

	"parallelpane/internal/core/verdict"
)

// colours of verdicts. Each verdict has a shape as well, so that nothing hangs
// on colour alone.
var colours = map[verdict.Verdict]lipgloss.TerminalColor{
	verdict.Passed:      lipgloss.AdaptiveColor{Light: "#1f7a4d", Dark: "#5fd3a0"},
	verdict.Failed:      lipgloss.AdaptiveColor{Light: "#b3261e", Dark: "#ff8a7a"},
	verdict.Flaky:       lipgloss.AdaptiveColor{Light: "#8a5a00", Dark: "#f0b95a"},
	verdict.Aside:       lipgloss.AdaptiveColor{Light: "#8a5a00", Dark: "#f0b95a"},
	verdict.LabFault:    lipgloss.AdaptiveColor{Light: "#6a4fb3", Dark: "#b9a4ff"},
	verdict.Skipped:     lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
	verdict.Unsupported: lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
	verdict.Ended:       lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
	verdict.Pending:     lipgloss.AdaptiveColor{Light: "#5c6670", Dark: "#98a4ae"},
}

// Shapes are the panes of the console in one character: full, cut by a
// diagonal, half, dashed outline, cut the other way, crossed out, dot, empty.
var Shapes = map[verdict.Verdict]string{
	verdict.Passed: "■", verdict.Failed: "◩", verdict.Flaky: "◧", verdict.LabFault: "⬚", verdict.Aside: "◪",
	verdict.Unsupported: "╳", verdict.Skipped: "·", verdict.Ended: "▣", verdict.Pending: "□",
}

// Paint gives a text the colour of a verdict.
func Paint(v verdict.Verdict, s string) string {
	return lipgloss.NewStyle().Foreground(colours[v]).Render(s)
}

// Faint is a text that matters less.
func Faint(s string) string { return Paint(verdict.Pending, s) }

// NewTable begins a table with these heads.
func NewTable(headers ...string) *table.Table {
	head := lipgloss.NewStyle().Bold(true).Padding(0, 1)
	cell := lipgloss.NewStyle().Padding(0, 1)
	return table.New().Headers(headers...).Border(lipgloss.NormalBorder()).BorderTop(false).BorderBottom(false).
		BorderLeft(false).BorderRight(false).BorderColumn(false).BorderStyle(lipgloss.NewStyle().Foreground(colours[verdict.Pending])).
		StyleFunc(func(row, _ int) lipgloss.Style {
			if row == table.HeaderRow {
				return head
			}
			return cell
		})
}
