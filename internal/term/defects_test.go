package term

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/form"
)

func TestDefectsInATerminal(t *testing.T) {
	var b strings.Builder
	Defects(&b, nil)
	assert.Contains(t, b.String(), "pane defect file RUN CAUSE")
	b.Reset()
	one := api.Defect{ID: "01a21d95-d722", Key: "HARBOUR-1", Title: "late \x1b[31mred", Project: "saltmarsh", Suite: "desk", Run: 4,
		State:  api.Filed,
		Status: "open", By: "tern", Link: "https://t.example/1"}
	done, waits, refused := one, one, one
	done.Key, done.Status, done.Closed = "HARBOUR-2", "mended", true
	waits.Key, waits.State, waits.Trouble = "", api.Awaiting, "status 503"
	refused.Key, refused.State, refused.Trouble = "", api.Refused, "severity: none of these"
	Defects(&b, []api.Defect{one, done, waits, refused})
	for _, want := range []string{"HARBOUR-1", "open", "mended", "waits", "not filed", "01a21d95", "saltmarsh desk #4"} {
		assert.Contains(t, b.String(), want)
	}
	assert.NotContains(t, b.String(), "\x1b[31mred")
	for d, want := range map[*api.Defect]string{&one: "https://t.example/1", &waits: "pane defect ask 01a21d95 does it now",
		&refused: "did not take it: severity: none of these. Mend that"} {
		b.Reset()
		Defect(&b, *d)
		assert.Contains(t, b.String(), want)
	}
	b.Reset()
	one.Trouble = "status 404"
	Defect(&b, one)
	assert.Contains(t, b.String(), "could not be asked: status 404")

	b.Reset()
	Trackers(&b, nil)
	assert.Contains(t, b.String(), "pane tracker add NAME ADDRESS")
	b.Reset()
	Trackers(&b, []api.Tracker{{Name: "harbour", Project: "saltmarsh"}, {Name: "log", Mapping: &api.TrackerMapping{}}})
	assert.Contains(t, b.String(), "as the lab does")
	assert.Contains(t, b.String(), "by a mapping")
}

func TestAFormInATerminal(t *testing.T) {
	var b strings.Builder
	f := api.DefectForm{Tracker: api.Tracker{Name: "harbour"},
		Schema: []byte(`{"title": "A defect", "type": "object", "required": ["rank"], "properties": {
		"line": {"type": "string"}, "rank": {"enum": ["high", "low"]}, "shots": {"type": "array", "items": {"type": "string",
		"contentEncoding": "base64", "contentMediaType": "image/png"}}}}`), Values: map[string]any{"line": "late\nvery"}, Pictures: 2,
		Missing: []form.Problem{{Field: "/rank", Message: "missing"}}, Defect: &api.Defect{Key: "HARBOUR-1", State: api.Filed},
		Like: []api.LikeDefect{{Key: "HARBOUR-2", Title: "later", Status: "open", Why: "found in the tracker"}}, Trouble: "it was slow"}
	require.NoError(t, DefectForm(&b, f))
	text := b.String()
	for _, want := range []string{"A defect, for harbour", "late …", "high | low", "must", "2 pictures",
		"Still to be filled in: /rank missing",
		"The cause has a defect already", "It may be HARBOUR-2 later, open (found in the tracker)", "it was slow"} {
		assert.Contains(t, text, want)
	}
	assert.Less(t, strings.Index(text, "line"), strings.Index(text, "rank"), "in the form's own order")
	assert.Error(t, DefectForm(&b, api.DefectForm{Schema: []byte(`{`)}))
	assert.Error(t, DefectForm(&b, api.DefectForm{Schema: []byte(`{"type": "array"}`)}))
}

func TestAccountsInATerminal(t *testing.T) {
	var b strings.Builder
	Accounts(&b, nil)
	assert.Contains(t, b.String(), "pane account add NAME")
	b.Reset()
	seen := time.Date(2026, 11, 27, 12, 0, 0, 0, time.Local)
	Accounts(&b, []api.Account{{Name: "tern", Mail: "tern@x.example", Rights: []api.Right{{Project: "saltmarsh", Role: api.Keeper}},
		SignsIn: true,
		SeenAt:  &seen}, {Name: "gull"}})
	for _, want := range []string{"keeper:saltmarsh", "with the provider", "2026-11-27 12:00", "not yet"} {
		assert.Contains(t, b.String(), want)
	}
	for _, c := range []struct {
		m    api.MyAccount
		want []string
	}{
		{api.MyAccount{}, []string{"You have no account"}},
		{api.MyAccount{Account: &api.Account{Name: "gull"}}, []string{"has no mail address", "You hear of no runs"}},
		{api.MyAccount{Account: &api.Account{Mail: "t@x.example"}, Hears: []api.Subscription{{ID: "7", Project: "saltmarsh", Suite: "desk",
			Of: []string{"failed", "daily"}}}}, []string{"are told of no mention", "failed, daily", "saltmarsh desk"}},
		{api.MyAccount{Account: &api.Account{Mail: "t@x.example", Mentions: true}}, []string{"are told of notes that mention you"}},
	} {
		b.Reset()
		MyAccount(&b, c.m)
		for _, want := range c.want {
			assert.Contains(t, b.String(), want)
		}
	}
}
