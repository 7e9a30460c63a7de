package likeness

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDifferencesOfTwoPages(t *testing.T) {
	there := &Page{Width: 1280, Elements: berths()}
	assert.Empty(t, Differences(there, there, ""))

	here := &Page{Width: 1280, Elements: berths()}
	here.Elements[0].Hidden = "display: none on its ancestor <nav class=wide>"
	here.Elements[1].Cover = "<div class=banner>"
	here.Elements[2].Place[0] = 1200
	here.Elements[3].Place[1] += 40
	here.Elements = append(here.Elements[:7], here.Elements[8:]...) // the link to the tides
	here.Elements = append(here.Elements, Portrait{Tag: "div", Role: "alert", Name: "Out of order", Place: [4]float64{0, 0, 100, 20}})
	got := map[string]string{}
	for _, d := range Differences(here, there, "") {
		got[d.Element] = d.Kind + ": " + d.Text
	}
	assert.Equal(t, map[string]string{
		`<button id=hold-b1> "Hold berth B1"`: "hidden: cannot be seen here: display: none on its ancestor <nav class=wide>",
		`<button id=hold-b2> "Hold berth B2"`: "covered: is covered here by <div class=banner>",
		`<button id=hold-b3> "Hold berth B3"`: "beyond: reaches 120 pixels beyond the right edge here",
		`<button id=hold-b4> "Hold berth B4"`: "moved: is 40 pixels lower from where it is there",
		`<a> "Tide table"`:                    "only-there: is on the page there only",
		`<div> "Out of order"`:                "only-here: is on the page here only",
	}, got)
	first := Differences(here, there, `click button "Hold berth B4"`)[0]
	assert.Equal(t, "moved", first.Kind, "what the step is about comes first")
	assert.Equal(t, [4]int{20, 260, 200, 32}, first.Here)
	here.Width = 390
	for _, d := range Differences(here, there, "") {
		assert.NotEqual(t, "moved", d.Kind, "pages of another width are laid out otherwise")
	}
	many := &Page{}
	for range 300 {
		many.Elements = append(many.Elements, berths()...)
	}
	require.NotEmpty(t, Differences(many, there, ""))
	assert.Len(t, Differences(&Page{Elements: berths()}, &Page{}, ""), 9)
}
