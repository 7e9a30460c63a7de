package results

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/likeness"
	"parallelpane/internal/script"
)

// A locator is tried on a page that was kept as a browser would try it.
func TestALocatorOnAKeptPage(t *testing.T) {
	page := &likeness.Page{
		Source: `<html><body><main data-surveyed="0"><button id="hold" data-surveyed="1">Hold</button><p data-surveyed="2" class="tide">` +
			`High</p>` +
			`<button data-surveyed="3">Hold</button><i data-surveyed="99">x</i></main></body></html>`,
		Elements: []likeness.Portrait{{Tag: "main", Role: "main"}, {Tag: "button", Role: "button", Name: "Hold", Text: "Hold",
			Attrs: map[string]string{"id": "hold", "data-mark": "hold"}}, {Tag: "p", Text: "High"},
			{Tag: "button", Role: "button", Name: "Hold", Text: "Hold", Hidden: "display: none"}},
	}
	for locator, want := range map[string][]int{
		"Hold": {1, 3}, "{role: button, name: Hold}": {1, 3}, "{role: button, name: Let go}": nil, "{marked: hold}": {1},
		"{attribute: {id: hold}}": {1}, "{css: 'main > .tide'}": {2}, "{css: '#hold, p'}": {1, 2}, "{xpath: '//button[2]'}": {3},
		"{xpath: '//i'}": nil, "{css: main}": {0},
	} {
		l, err := script.ParseLocator(locator)
		require.NoError(t, err, locator)
		f, err := l.Find("")
		require.NoError(t, err)
		got, err := onPage(page, f)
		require.NoError(t, err, locator)
		assert.Equal(t, want, got, locator)
	}
	for locator, want := range map[string]string{
		"{css: '>>'}": "css: ", "{xpath: '//a['}": "xpath: ", "{css: 'p:contains(x)'}": "no selector of CSS",
		"{xpath: '//*[.//*[.//*]]'}":                            "walks the page more than twice",
		"{css: '" + strings.Repeat("a ", 40) + "b'}":            "too many parts",
		"{css: 'a:has(b:has(c))'}":                              "too many parts",
		"{xpath: 'a[following::b[preceding::c[ancestor::d]]]'}": "walks the page more than twice",
	} {
		l, err := script.ParseLocator(locator)
		require.NoError(t, err, locator)
		f, err := l.Find("")
		require.NoError(t, err)
		_, err = onPage(page, f)
		assert.ErrorContains(t, err, want, locator)
	}
	for locator, want := range map[string]string{"${vars.x}": "no variables", "{role: [": "", "{role: a, css: b}": "role and css",
		"": "empty"} {
		_, err := script.ParseLocator(locator)
		assert.ErrorContains(t, err, want, locator)
	}
	page.Source = ""
	_, err := onPage(page, script.Find{By: "css", Value: "a"})
	assert.ErrorContains(t, err, "too long to be kept")
}
