package results

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/script"
)

// maxAged bounds how many findings of a run are looked at.
const maxAged = 20_000

// Aged says which locators of a run find nothing any more, what is like what they found,
// and how the scripts would be mended.
func (r *Results) Aged(ctx context.Context, number int) (api.AgedLocators, error) {
	out := api.AgedLocators{Run: number, Locators: []api.AgedLocator{}, Left: []string{}}
	run, _, err := r.whole(ctx, number)
	if err != nil {
		return out, err
	}
	rows, err := r.store.AgedIn(ctx, number, maxAged)
	if err != nil {
		return out, err
	}
	groups := map[source.Position]*agedGroup{}
	for _, row := range rows {
		var a attempt.Aged
		if err := json.Unmarshal([]byte(row.Body), &a); err != nil {
			return out, fmt.Errorf("a locator of run %d: %w", number, err)
		}
		g := groups[a.At]
		if g == nil {
			g = &agedGroup{AgedLocator: api.AgedLocator{At: a.At, Was: a.Was, Sure: 1, Also: []string{}, Cells: []triage.At{}, Tests: []string{}},
				votes: map[string]int{}}
			groups[a.At] = g
		}
		g.add(a, triage.At{Pane: row.Pane, Test: row.Test}, run.Tests[row.Test].Name)
	}
	for _, g := range groups {
		g.decide()
		out.Locators = append(out.Locators, g.AgedLocator)
	}
	slices.SortFunc(out.Locators, func(a, b api.AgedLocator) int { return compareAt(a.At, b.At) })
	return out, r.patch(run.Request.Bundle, &out)
}

func compareAt(a, b source.Position) int {
	return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Column-b.Column)
}

// agedGroup is one locator, wherever it found nothing.
type agedGroup struct {
	api.AgedLocator
	votes map[string]int // new locators, by how often each was proposed
	all   []attempt.Aged
}

func (g *agedGroup) add(a attempt.Aged, at triage.At, test string) {
	g.all = append(g.all, a)
	g.votes[a.Now]++
	g.Cells = append(g.Cells, at)
	if !slices.Contains(g.Tests, test) {
		g.Tests = append(g.Tests, test)
	}
	if a.Accepted {
		g.Accepted++
	} else {
		g.Failed++
	}
}

// decide takes the new locator that most cells propose, and what the least sure of them
// says of it.
func (g *agedGroup) decide() {
	names := make([]string, 0, len(g.votes))
	for now := range g.votes {
		if now != "" {
			names = append(names, now)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(g.votes[b]-g.votes[a], strings.Compare(a, b)) })
	if len(names) > 0 {
		g.Now, g.Also = names[0], names[1:]
	}
	g.Sure = 2
	for _, a := range g.all {
		if a.Now == g.Now && a.Sure < g.Sure {
			g.Sure, g.Next, g.Element, g.Same, g.Other = a.Sure, a.Next, a.Element, a.Same, a.Other
		}
	}
}

// patch writes the new locators into the files of a bundle, and what of them cannot be.
func (r *Results) patch(bundle string, to *api.AgedLocators) error {
	var b strings.Builder
	for i := 0; i < len(to.Locators); {
		file := to.Locators[i].At.File
		n := i
		for n < len(to.Locators) && to.Locators[n].At.File == file {
			n++
		}
		src, err := r.source(bundle, file)
		if err != nil {
			return err
		}
		now := []byte(src)
		for _, l := range slices.Backward(to.Locators[i:n]) { // from the end, so that places stay
			if l.Now == "" {
				to.Left = append(to.Left, fmt.Sprintf("%s: nothing finds %s alone", l.At, l.Element))
				continue
			}
			changed, err := script.Rewrite(now, l.At, l.Now)
			if err != nil {
				to.Left = append(to.Left, err.Error())
				continue
			}
			now = changed
		}
		b.WriteString(udiff.Unified("a/"+file, "b/"+file, src, string(now)))
		i = n
	}
	to.Patch = b.String()
	slices.Sort(to.Left)
	return nil
}

// Better lists the locators that passing tests of a suite have met in place of brittle ones.
func (r *Results) Better(ctx context.Context, f api.BetterFilter) ([]api.Better, error) {
	out := []api.Better{}
	rows, err := r.store.RememberedOf(ctx, f.Project, f.Suite)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		var s attempt.Seen
		if err := json.Unmarshal([]byte(row.Body), &s); err != nil {
			return nil, fmt.Errorf("what is remembered of %q: %w", row.Test, err)
		}
		if s.Better != "" {
			out = append(out, api.Better{Test: row.Test, Place: row.Place, At: s.At, Better: s.Better, Run: row.Run})
		}
	}
	return out, nil
}
