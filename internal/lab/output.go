package lab

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/link"
)

// outputLimit is how long an agent may take to say what a command prints.
const outputLimit = 5 * time.Second

// Outputs lists the tests of a run whose commands may be running now: those that agents
// hold. Of one that is not known it is empty.
func (lab *Lab) Outputs(number int) []api.Printing {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	out := []api.Printing{}
	for _, l := range lab.leases {
		r := lab.live[l.Run]
		if r == nil || r.view.Number != number || r.terms.Command == nil && !r.terms.Several {
			continue
		}
		for i, t := range l.Tests {
			if strings.HasSuffix(r.view.Tests[t].File, suite.ScriptSuffix) {
				continue
			}
			out = append(out, api.Printing{Pane: l.Pane, Test: t, Name: r.view.Tests[t].Name, Label: r.view.Panes[l.Pane].Label, Agent: l.Agent,
				Attempt: l.ids[i]})
		}
	}
	slices.SortFunc(out, func(a, b api.Printing) int { return cmp.Or(cmp.Compare(a.Pane, b.Pane), cmp.Compare(a.Test, b.Test)) })
	return out
}

// Output is what the command prints that stands for a test in a pane, from a place on. Live
// is false where it does not run now.
func (lab *Lab) Output(number, pane, test int, from int64) (api.Output, error) {
	lab.mu.Lock()
	id := ""
	var conn *link.Agent
	for _, l := range lab.leases {
		r := lab.live[l.Run]
		if r == nil || r.view.Number != number || l.Pane != pane {
			continue
		}
		if i := slices.Index(l.Tests, test); i >= 0 {
			id = l.ids[i]
			if a := lab.agents[l.Agent]; a != nil {
				conn = a.link
			}
		}
	}
	lab.mu.Unlock()
	if conn == nil {
		return api.Output{}, nil
	}
	got, err := ask(conn, fasthttp.MethodGet, fmt.Sprintf("/attempts/%s/output?from=%d", id, from), nil, outputLimit)
	if err != nil || got.status != http.StatusOK {
		return api.Output{}, nil // it has ended, or not begun; or the agent has just gone
	}
	var o link.Output
	if err := json.Unmarshal(got.body, &o); err != nil {
		return api.Output{}, fmt.Errorf("output of attempt %s: %w", id, err)
	}
	return api.Output{Live: true, Attempt: id, From: o.From, Next: o.Next, Text: o.Text}, nil
}
