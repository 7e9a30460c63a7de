package notify

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// account puts somebody on record who may look at a project.
func (p *post) account(name, mail, project string) api.Account {
	row := store.Account{ID: store.NewID(), Name: name, Mail: mail, Rights: store.JSON([]api.Right{{Project: project, Role: api.Viewer}}),
		MadeBy: "admin", MadeAt: 1}
	require.NoError(p.t, p.Store.Write(store.AddAccount(row)))
	return api.Account{ID: row.ID, Name: name, Mail: mail}
}

func TestWhatSomebodyHearsOfForThemselves(t *testing.T) {
	b, m := serveMail(t)
	p := openPost(t, m)
	tern := p.account("tern", "tern@saltmarsh.example", "saltmarsh")
	s, err := p.Hear(t.Context(), tern, api.HearRequest{Project: "saltmarsh", Of: []string{api.OfEnded}})
	require.NoError(t, err)
	assert.Equal(t, "tern", s.Target, "the address is theirs alone")
	all, err := p.Subscriptions(t.Context(), api.SubscriptionFilter{})
	require.NoError(t, err)
	assert.Empty(t, all, "others do not see it")
	_, err = p.SubscriptionProject(t.Context(), s.ID)
	assert.ErrorContains(t, err, "there is no subscription")
	p.end(1, "passed")
	p.until(func() bool { return len(b.all()) == 1 })
	assert.Contains(t, b.all()[0], "To: <tern@saltmarsh.example>")

	// The address is looked up when it is sent, and so is whether they may still look.
	require.NoError(t, p.Store.Write(store.ChangeAccount(tern.ID, "okafor@saltmarsh.example", store.JSON([]api.Right{{Project: "saltmarsh",
		Role: api.Viewer}}))))
	p.end(2, "failed")
	p.until(func() bool { return len(b.all()) == 2 })
	assert.Contains(t, b.all()[1], "To: <okafor@saltmarsh.example>")
	require.NoError(t, p.Store.Write(store.ChangeAccount(tern.ID, tern.Mail, store.JSON([]api.Right{{Project: "marina", Role: api.Admin}}))))
	p.end(3, "passed")
	p.until(func() bool {
		sent := p.deliveries(api.DeliveryFilter{State: api.GivenUp})
		return len(sent) == 1 && sent[0].Answer == "tern may not look at saltmarsh any more"
	})
	assert.Len(t, b.all(), 2)
	gull := p.account("gull", "", "saltmarsh")
	_, err = p.Hear(t.Context(), gull, api.HearRequest{Project: "saltmarsh", Of: []string{api.OfEnded}})
	assert.ErrorContains(t, err, "has no mail address")
	assert.ErrorContains(t, p.Unhear(t.Context(), gull.ID, s.ID), "there is no subscription", "it is not gull's")
	require.NoError(t, p.Unhear(t.Context(), tern.ID, s.ID))
	mine, err := p.Hears(t.Context(), tern.ID)
	require.NoError(t, err)
	assert.Empty(t, mine)
}

func TestWhoIsMentionedIsTold(t *testing.T) {
	b, m := serveMail(t)
	p := openPost(t, m)
	tern := p.account("Tern", "tern@saltmarsh.example", "saltmarsh")
	p.account("heron", "heron@marina.example", "marina") // may not look
	p.account("gull", "gull@saltmarsh.example", "saltmarsh")
	quiet := p.account("avocet", "avocet@saltmarsh.example", "saltmarsh")
	require.NoError(t, p.Store.Write(store.MentionAccount(quiet.ID, false)))
	note := func(body string) api.Note {
		row := store.Remark{ID: store.NewID(), Project: "saltmarsh", Suite: "desk", Kind: api.NoteTest, Run: 3, Title: "Tides <b>", Body: body,
			By:       "gull",
			Mentions: " tern heron avocet gull nobody ", At: 1}
		require.NoError(t, p.Store.Write(store.AddRemark(row)))
		return api.Note{ID: row.ID, Project: row.Project, Kind: row.Kind, Run: 3, By: "gull", Mentions: strings.Fields(row.Mentions)}
	}
	require.NoError(t, p.Mention(t.Context(), note("@tern look <script>\x1b[2J\nat \u202ethis")))
	p.until(func() bool { return len(b.all()) == 1 })
	mail := strings.ReplaceAll(b.all()[0], "=\r\n", "")
	assert.Contains(t, mail, "To: <tern@saltmarsh.example>")
	assert.Contains(t, mail, "gull mentions you")
	assert.Contains(t, mail, "look &lt;script&gt;")
	assert.NotContains(t, mail, "\x1b")
	sent := p.deliveries(api.DeliveryFilter{})
	require.Len(t, sent, 1, "those who may not look, who want no mentions, and who wrote it are told nothing")
	assert.Equal(t, []string{api.OfMention, "Tern", api.MailKind, api.Sent}, []string{sent[0].Of, sent[0].Target, sent[0].Kind, sent[0].State})
	require.NoError(t, p.Store.Write(store.AddRun(store.Run{Number: 4, ID: "r", Kind: "remote", Project: "saltmarsh", Counts: "{}", Vars: "{}",
		Request: "{}", Plan: "{}"}, nil, nil)...))
	require.NoError(t, p.Store.Write(store.AddSession(store.Session{ID: "s/1", Run: 4})))
	require.NoError(t, p.Store.Write(store.NoteSession("s/1", "see @tern", "gull", 5)))
	require.NoError(t, p.SessionNoted(t.Context(), api.Session{SessionSummary: api.SessionSummary{ID: "s/1", Project: "saltmarsh", Run: 4}},
		"gull",
		[]string{"tern"}))
	p.until(func() bool { return len(b.all()) == 2 })
	assert.Contains(t, strings.ReplaceAll(b.all()[1], "=\r\n", ""), "https://lab.saltmarsh.example/sessions/s%2F1")
	gone := note("@tern again")
	require.NoError(t, p.Store.Write(append(store.DropAccount(tern.ID, tern.Name), store.DropRemark(gone.ID))...))
	require.NoError(t, p.Mention(t.Context(), gone))
	assert.Len(t, p.deliveries(api.DeliveryFilter{}), 2)
}
