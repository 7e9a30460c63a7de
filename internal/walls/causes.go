package walls

import (
	"cmp"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// Triaged is a run as causes are looked for in it.
func Triaged(v *api.Run) triage.Run {
	out := triage.Run{Panes: make([]triage.Pane, len(v.Panes)), Tests: make([]triage.Test, len(v.Tests)),
		Cells: make([][]triage.Cell, len(v.Cells))}
	for i, p := range v.Panes {
		out.Panes[i] = triage.Pane{Label: p.Label, Values: p.Values}
		out.Cells[i] = make([]triage.Cell, len(v.Cells[i]))
		for j, c := range v.Cells[i] {
			out.Cells[i][j] = triage.Cell{Verdict: c.Verdict, Message: cmp.Or(c.Message, c.Why), Agent: c.Agent}
		}
	}
	for j, t := range v.Tests {
		out.Tests[j] = triage.Test{Name: t.Name, File: t.File}
	}
	return out
}

// Kept are the statements that store what is read of an ended run again and again: its
// wall, and what its failures come from.
func Kept(v api.Run, revised int) ([]store.Stmt, error) {
	packed, err := Ready(v)
	if err != nil {
		return nil, err
	}
	cells := map[string]int{}
	for _, c := range triage.Causes(Triaged(&v)) {
		cells[c.Signature] += c.Failed
	}
	return append(store.KeepCauses(store.Run{Number: v.Number}, revised, cells), store.KeepWall(v.Number, revised, packed)), nil
}

// Timed is a run with what its cells took, for comparing it with others.
func Timed(v *api.Run) triage.Timed {
	out := triage.Timed{Run: Triaged(v)}
	for i, row := range v.Cells {
		took := make([]int64, len(row))
		for j, c := range row {
			if took[j] = c.TookMS; c.Verdict == verdict.Aside { // between runs it is what it was before it was set aside
				out.Run.Cells[i][j].Verdict = verdict.Failed
			}
		}
		out.TookMS = append(out.TookMS, took)
	}
	return out
}
