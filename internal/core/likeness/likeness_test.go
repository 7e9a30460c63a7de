package likeness

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// berths is a page with a row of alike buttons, a form and a link.
func berths() []Portrait {
	var out []Portrait
	for i := range 6 {
		words := fmt.Sprintf("Hold berth B%d", i+1)
		out = append(out, Portrait{Tag: "button", Role: "button", Name: words, Text: words, Nth: i + 1,
			Attrs: map[string]string{"id": fmt.Sprintf("hold-b%d", i+1), "class": "hold wide"}, Path: []string{"li", "ul", "main", "body"},
			Head: "Berths", Before: fmt.Sprintf("B%d is free", i+1), Place: [4]float64{20, float64(100 + 40*i), 200, 32}})
	}
	return append(out,
		Portrait{Tag: "input", Type: "text", Role: "textbox", Name: "Boat name", Label: "Boat name",
			Attrs: map[string]string{"name": "boat", "id": "x"}, Path: []string{"form", "main", "body"}, Head: "Your boat",
			Place: [4]float64{20, 500, 300, 30}},
		Portrait{Tag: "a", Role: "link", Name: "Tide table", Text: "Tide table", Attrs: map[string]string{"href": "/tides"},
			Path: []string{"nav", "body"}, Place: [4]float64{20, 10, 80, 20}},
		Portrait{Tag: "p", Role: "paragraph", Text: "Berths are given for a night.", Path: []string{"main", "body"},
			Place: [4]float64{20, 60, 600, 20}})
}

func TestTheChangedElementIsFirst(t *testing.T) {
	for name, change := range map[string]func(p *Portrait){
		"id":      func(p *Portrait) { p.Attrs["id"] = "berth-3-hold" },
		"class":   func(p *Portrait) { p.Attrs["class"] = "css-1x8f2q" },
		"place":   func(p *Portrait) { p.Place[1] += 700 },
		"words":   func(p *Portrait) { p.Name, p.Text = "Reserve B3", "Reserve B3" },
		"wrapper": func(p *Portrait) { p.Path = append([]string{"div"}, p.Path...) },
		"id and class": func(p *Portrait) {
			p.Attrs["id"], p.Attrs["class"] = "k-99213", "btn primary"
		},
	} {
		page := berths()
		was := berths()[2]
		change(&page[2])
		ranked := Rank(&was, page, 3)
		require.Len(t, ranked, 3, name)
		assert.Equal(t, 2, ranked[0].Index, name)
		assert.Equal(t, name != "words", Certain(&was, page, ranked), "%s: %v", name, ranked)
	}
}

// What stood beside an element that is gone is no stand-in for it, however alike they are.
func TestAnElementThatIsGone(t *testing.T) {
	for i := range berths() {
		page := berths()
		was := page[i]
		page = append(page[:i], page[i+1:]...)
		ranked := Rank(&was, page, 3)
		assert.False(t, Certain(&was, page, ranked), "%s: %v", was, ranked)
	}
	was := berths()[0]
	assert.Empty(t, Rank(&was, nil, 3))
	hidden := berths()[:1]
	hidden[0].Hidden = "display: none"
	assert.Empty(t, Rank(&was, hidden, 3), "what cannot be seen is no candidate")
}

func TestABetterLocator(t *testing.T) {
	page := berths()
	for i, want := range map[int]string{2: "{role: button, name: Hold berth B3}", 6: "{role: textbox, name: Boat name}",
		7: "{role: link, name: Tide table}", 8: "{reads: \"Berths are given for a night.\"}"} {
		l, ok := Propose(page, i, "data-mark")
		require.True(t, ok)
		assert.Equal(t, want, l.YAML())
	}
	page[2].Attrs["data-mark"] = "hold"
	l, _ := Propose(page, 2, "data-mark")
	assert.Equal(t, "{marked: hold}", l.YAML())
	page = append(page, page[7])
	page[8].Attrs = nil
	l, ok := Propose(page, 7, "data-mark")
	assert.False(t, ok, l.YAML())
	page[1].Hidden = "display: none"
	_, ok = Propose(page, 1, "data-mark")
	assert.False(t, ok, "an element that cannot be seen is found by nothing")
	assert.Equal(t, `{attribute: {title: "yes"}}`, Locator{By: "attribute", Attr: "title", Value: "yes"}.YAML())
	assert.Equal(t, `{reads: "$${x}, \"y\""}`, Locator{By: "reads", Value: `${x}, "y"`}.YAML())
}

func TestBrittleLocators(t *testing.T) {
	for _, c := range []struct{ by, value, why string }{
		{"css", "#hold", ""},
		{"css", "nav .berth a", ""},
		{"css", "main > div > ul > li > button", "it has 5 steps, each of which must stay as it is"},
		{"css", "li:nth-child(3) a", "it counts elements, so that one more before it is enough"},
		{"css", ".css-1x8f2q", `"css-1x8f2q" looks made up by a program, anew with each release`},
		{"css", "[id=\"input-48213\"]", `"input-48213" looks made up by a program, anew with each release`},
		{"css", "#berth-b3", ""},
		{"css", ".harbour_map__xYzQw", `"harbour_map__xYzQw" looks made up by a program, anew with each release`},
		{"xpath", "//main/div[2]/a", "it counts elements, so that one more before it is enough"},
		{"xpath", "//a[@id='tide']", ""},
		{"id", "ext-gen1042", `"ext-gen1042" looks made up by a program, anew with each release`},
		{"role", "button", ""},
		{"reads", "Pier 2026-1", ""},
	} {
		assert.Equal(t, c.why, Brittle(c.by, c.value), "%s %s", c.by, c.value)
	}
}
