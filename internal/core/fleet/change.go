package fleet

import (
	"cmp"
	"fmt"
	"strings"

	"parallelpane/internal/core/combo"
)

// Change is what a schedule waits for: a version of a browser that comes into the lab.
type Change struct {
	Browser string
	Channel string // "" is any
}

// ParseChange reads "when browser=chromium changes", with channel=beta besides; is says
// whether a text is of that form at all.
func ParseChange(text string) (c Change, is bool, err error) {
	words := strings.Fields(text)
	if len(words) == 0 || words[0] != "when" {
		return c, false, nil
	}
	form := fmt.Errorf("%q: expected when browser=NAME changes, such as when browser=chromium channel=beta changes", text)
	if len(words) < 3 || words[len(words)-1] != "changes" {
		return c, true, form
	}
	needs, err := ParseNeeds(words[1 : len(words)-1])
	if err != nil {
		return c, true, err
	}
	for fact, want := range needs {
		into := map[string]*string{"browser": &c.Browser, "channel": &c.Channel}[fact]
		if into == nil || len(want) != 1 {
			return c, true, form
		}
		*into = want[0]
	}
	if c.Browser == "" {
		return c, true, form
	}
	return c, true, nil
}

// Is says whether a version of a browser is one that is waited for.
func (c Change) Is(browser, channel string) bool {
	return browser == c.Browser && (c.Channel == "" || cmp.Or(channel, combo.Channels[0]) == c.Channel)
}

// Words says it as a schedule does: "whenever …".
func (c Change) Words() string {
	if c.Channel != "" {
		return "whenever a version of " + c.Browser + " from the channel " + c.Channel + " comes into the lab"
	}
	return "whenever a version of " + c.Browser + " comes into the lab"
}
