package script

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/verdict"
)

func holdButton() likeness.Portrait {
	return likeness.Portrait{Tag: "button", Role: "button", Name: "Hold", Text: "Hold",
		Attrs: map[string]string{"id": "hold", "class": "wide"}, Path: []string{"form", "main"}, Place: [4]float64{1, 2, 30, 40}}
}

func TestAPassedTestSaysWhatItsLocatorsMatched(t *testing.T) {
	portrait := holdButton()
	met := shown
	met.Portrait = &portrait
	inside := likeness.Portrait{Tag: "form", Role: "form", Name: "Berth"}
	sight := seen(met)
	sight.Inside = &inside
	steps := "  - click: {css: '#hold'}\n    within: {role: form}\n  - click: {css: '#hold'}\n  - expect: {gone: Never}\n    if: 1 > 2\n"
	p := &page{looks: []Sight{sight}}
	out, _ := run(t, p, steps, Setting{Aging: Aging{Remembers: true}})
	require.Equal(t, verdict.Passed, out.Verdict, out.Message)
	var places []string
	for _, s := range out.Seen {
		places = append(places, s.Place)
	}
	assert.Equal(t, []string{`form as surroundings`, `css "#hold" within form`, `css "#hold"`}, places)
	assert.Equal(t, portrait, out.Seen[1].Portrait)
	assert.Zero(t, p.surveys, "nothing is brittle here")
	out, _ = run(t, &page{looks: []Sight{sight}}, steps, Setting{})
	assert.Empty(t, out.Seen)

	// A better locator is looked for where one is brittle, before the click leads elsewhere.
	p = &page{looks: []Sight{sight}, elements: []likeness.Portrait{portrait}, found: []int{0}}
	out, _ = run(t, p, "  - click: {css: 'form > button:nth-child(2)'}\n  - click: {css: '#hold'}\n", Setting{Aging: Aging{Remembers: true}})
	assert.Equal(t, "{role: button, name: Hold}", out.Seen[0].Better)
	assert.Empty(t, out.Seen[1].Better)
	assert.Equal(t, 1, p.surveys)
}

func TestALocatorThatFindsNothingAnyMore(t *testing.T) {
	was := holdButton()
	is := holdButton()
	is.Attrs = map[string]string{"id": "hold-it", "class": "wide"}
	others := []likeness.Portrait{{Tag: "p", Text: "Berths", Path: []string{"main"}},
		{Tag: "a", Role: "link", Name: "Tides", Path: []string{"nav"}},
		{Tag: "button", Role: "button", Name: "Leave", Attrs: map[string]string{"id": "leave"}, Path: []string{"form", "main"}}}
	recall := func(_ context.Context, place string) (*attempt.Seen, error) {
		assert.Equal(t, `css "#hold"`, place)
		return &attempt.Seen{Place: place, Portrait: was}, nil
	}
	aged := func(accept bool, looks ...Sight) (Outcome, *page) {
		p := &page{looks: looks, elements: append([]likeness.Portrait{is}, others...)}
		out, _ := run(t, p, "  - click: {css: '#hold'}\n  - expect: {shown: {css: '#held'}}\n",
			Setting{Aging: Aging{Remembers: true, Recall: recall, Accept: accept}})
		return out, p
	}
	out, p := aged(false, Sight{})
	assert.Equal(t, verdict.Failed, out.Verdict)
	require.NotNil(t, out.Steps[0].Aged)
	a := out.Steps[0].Aged
	assert.Equal(t, `css "#hold"`, a.Was)
	assert.Equal(t, "{role: button, name: Hold}", a.Now)
	assert.Equal(t, `<button id=hold-it> "Hold"`, a.Element)
	assert.Greater(t, a.Sure, 0.99)
	assert.False(t, a.Accepted)
	assert.Equal(t, []string{"id"}, a.Other)
	assert.Equal(t, `css "#hold": no element matches (waited 60ms)`, out.Message, "the failure says what it always said")
	assert.Empty(t, p.done)

	// Accepted, it goes on and says so. What stood in for it is not remembered as what the locator means.
	p = &page{elements: append([]likeness.Portrait{is}, others...)}
	p.lookAt = func(q Query) Sight {
		if q.Find.By == "surveyed" && q.Find.Value == "0" || q.Find.Value == "#held" {
			return seen(shown)
		}
		return Sight{}
	}
	accepting := Setting{Aging: Aging{Remembers: true, Recall: recall, Accept: true}}
	out, _ = run(t, p, "  - click: {css: '#hold'}\n  - expect: {shown: {css: '#held'}}\n", accepting)
	require.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.Equal(t, []string{"click e1"}, p.done)
	assert.True(t, out.Steps[0].Aged.Accepted)
	assert.Equal(t, `step 1 went on without its locator: css "#hold" finds nothing, and <button id=hold-it> "Hold" is certainly what `+
		`it found before`, out.Message)
	assert.Empty(t, out.Seen)

	// One that cannot be acted upon stands in for nothing.
	covered := shown
	covered.Covered = "<div>"
	p.done, p.lookAt = nil, func(q Query) Sight {
		if q.Find.By == "surveyed" {
			return seen(covered)
		}
		return Sight{}
	}
	out, _ = run(t, p, "  - click: {css: '#hold'}\n", accepting)
	assert.Equal(t, verdict.Failed, out.Verdict)
	assert.False(t, out.Steps[0].Aged.Accepted)

	// What nothing is remembered of, and what is there but hidden, is as it was without.
	recall = func(context.Context, string) (*attempt.Seen, error) { return nil, nil }
	out, _ = aged(true, Sight{})
	assert.Nil(t, out.Steps[0].Aged)
	recall = func(context.Context, string) (*attempt.Seen, error) { return nil, errors.New("the service is away") }
	out, _ = aged(true, Sight{})
	assert.Nil(t, out.Steps[0].Aged)
	recall = func(context.Context, string) (*attempt.Seen, error) { t.Error("asked"); return nil, nil }
	out, _ = aged(true, seen(hidden))
	assert.Nil(t, out.Steps[0].Aged)
	assert.Equal(t, "failure.page.json", out.Steps[0].Page)
}
