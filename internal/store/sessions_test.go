package store

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// wall writes a run of sessions with two tests in two panes.
func wall(t require.TestingT, s *Store, number int, project, name string) string {
	id := fmt.Sprint("run-", number)
	batch := AddRun(Run{ID: id, Number: number, Project: project, Suite: name, Kind: "remote", Vars: "{}", Request: "{}", Counts: "{}", Plan: "{}", CreatedAt: int64(number)}, Whole{})
	for pane, label := range []string{"chromium · phone", "webkitgtk"} {
		for test, name := range []string{"Hold a berth", "Read the tides"} {
			batch = append(batch, AddCell(Pane{RunID: id, Index: pane, Key: label, Label: label, Values: "{}", Needs: "{}"}, Test{RunID: id, Index: test, Name: name, Tags: "[]", Locks: "[]"})...)
		}
	}
	require.NoError(t, s.Write(batch...))
	return id
}

func session(run, id string) Session {
	return Session{ID: id, RunID: run, Kind: "remote", Name: "Tides", Tags: "[]", Asked: "{}", Options: "{}", State: "waiting", QueuedAt: 1}
}

// Whatever is asked for, the list is what a plain look at every session would
// give, newest first.
func TestSessionsAreFoundByEveryFilter(t *testing.T) {
	s := open(t)
	runs := []string{wall(t, s, 1, "saltmarsh", "build 811"), wall(t, s, 2, "tidal", "50%_off")}
	names, labels, tests := []string{"build 811", "50%_off"}, []string{"chromium · phone", "webkitgtk"}, []string{"Hold a berth", "Read the tides"}
	projects := []string{"saltmarsh", "tidal"}
	var all []Session
	for i := range 60 {
		x := session(runs[i%2], fmt.Sprintf("s-%02d", i))
		x.Pane, x.Test, x.Number = i/2%2, i/4%2, 1+i%3
		x.Browser, x.Device = []string{"chromium", "firefox", "webkitgtk"}[i%3], []string{"", "phone"}[i/3%2]
		x.State, x.Verdict = []string{"waiting", "open", "ended", "ended"}[i%4], []string{"", "", "passed", "failed"}[i%4]
		x.Agent, x.By, x.Kind, x.QueuedAt = []string{"quay", "pier"}[i/5%2], []string{"tern", `O'Gull "x"`}[i/7%2], []string{"remote", "script"}[i/6%2], int64(1000+i/2) // two at a time
		x.Tags = []string{"[]", `["berths"]`, `["berths","slow"]`}[i%3]
		x.Message = []string{"", "100% wet", "under_score", `back\slash`}[i/8%4]
		all = append(all, x)
		require.NoError(t, s.Write(AddSession(x)))
	}
	like := func(text, part string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(part)) }
	rapid.Check(t, func(t *rapid.T) {
		maybe := func(label string, values ...string) string {
			return rapid.SampledFrom(append([]string{"", "", ""}, values...)).Draw(t, label)
		}
		f := SessionFilter{Text: maybe("text", "tides", "%", "_", `\`, "100%", "O'Gull", "#2", "BUILD", "nothing like it", "phone"), Test: maybe("test", "berth", "%", "tide"), Tag: maybe("tag", "berths", "slow", "none"),
			Browser: maybe("browser", "chromium", "webkitgtk"), Device: maybe("device", "phone"), Verdict: maybe("verdict", "passed", "failed"), State: maybe("state", "waiting", "open", "ended"),
			Project: maybe("project", projects...), Kind: maybe("kind", "remote", "script"), Agent: maybe("agent", "quay"), Run: rapid.IntRange(0, 2).Draw(t, "run"),
			Since: rapid.SampledFrom([]int64{0, 1010}).Draw(t, "since"), Until: rapid.SampledFrom([]int64{0, 1020}).Draw(t, "until"), Before: maybe("before", "s-30", "s-31"), Limit: rapid.IntRange(1, 70).Draw(t, "limit")}
		var want []string
		sorted := slices.Clone(all)
		slices.SortFunc(sorted, func(a, b Session) int { return cmp.Or(cmp.Compare(b.QueuedAt, a.QueuedAt), cmp.Compare(b.ID, a.ID)) })
		for _, x := range sorted {
			run := slices.Index(runs, x.RunID)
			text := fmt.Sprintf("%s %s %s %s %s %s %s %s %s #%d", x.Name, tests[x.Test], names[run], projects[run], labels[x.Pane], x.By, x.Message, x.How, x.Note, run+1)
			earlier := true
			if f.Before != "" {
				at := all[slices.IndexFunc(all, func(o Session) bool { return o.ID == f.Before })]
				earlier = x.QueuedAt < at.QueuedAt || (x.QueuedAt == at.QueuedAt && x.ID < at.ID)
			}
			if like(text, f.Text) && like(tests[x.Test], f.Test) && (f.Tag == "" || strings.Contains(x.Tags, `"`+f.Tag+`"`)) && (f.Browser == "" || f.Browser == x.Browser) && (f.Device == "" || f.Device == x.Device) &&
				(f.Verdict == "" || f.Verdict == x.Verdict) && (f.State == "" || f.State == x.State) && (f.Project == "" || f.Project == projects[run]) && (f.Kind == "" || f.Kind == x.Kind) &&
				(f.Agent == "" || f.Agent == x.Agent) && (f.Run == 0 || f.Run == run+1) && x.QueuedAt >= f.Since && (f.Until == 0 || x.QueuedAt < f.Until) && earlier && len(want) < f.Limit {
				want = append(want, x.ID)
			}
		}
		rows, err := s.Sessions(t.Context(), f)
		require.NoError(t, err)
		var got []string
		for _, r := range rows {
			got = append(got, r.ID)
		}
		require.Equal(t, want, got, "%+v", f)
	})
}

func TestASessionsLife(t *testing.T) {
	s := open(t)
	run := wall(t, s, 1, "saltmarsh", "by hand")
	x := session(run, "s1")
	require.NoError(t, s.Write(AddSession(x), LeaseSession("s1", 7, "quay")))
	live, err := s.LiveSessions(t.Context())
	require.NoError(t, err)
	require.Len(t, live, 1)
	assert.Equal(t, []any{int64(7), "quay", "waiting"}, []any{live[0].Fence, live[0].Agent, live[0].State})
	require.ErrorIs(t, s.Write(JudgeSession("s1", "passed", "")...), ErrGuard, "a verdict after the end is for one that has ended")
	x.Agent, x.Browser, x.Version, x.OS, x.BiDiKey, x.OpenedAt = "quay", "firefox", "153", "linux", "hash", 5
	require.NoError(t, s.Write(OpenSession(x)))
	got, err := s.SessionByID(t.Context(), "s1")
	require.NoError(t, err)
	assert.Equal(t, []any{"open", "firefox", "hash", int64(5), "by hand", "Hold a berth", "chromium · phone"}, []any{got.State, got.Browser, got.BiDiKey, got.OpenedAt, got.RunName, got.TestName, got.Label})
	x.Verdict, x.How, x.EndedAt = "ended", "the client ended it", 9
	require.NoError(t, s.Write(append(AddAttempt(Attempt{ID: "s1", RunID: run, Number: 1, Verdict: "ended", Detail: "{}"}, nil), EndSession(x))...))
	later := x
	later.Verdict, later.How = "lab-fault", "something else"
	require.NoError(t, s.Write(EndSession(later)))
	got, err = s.SessionByID(t.Context(), "s1")
	require.NoError(t, err)
	assert.Equal(t, []string{"ended", "the client ended it", ""}, []string{got.Verdict, got.How, got.BiDiKey}, "how it ended first counts, and its address opens nothing more")
	require.NoError(t, s.Write(JudgeSession("s1", "failed", "wet")...))
	a, err := s.AttemptByID(t.Context(), "s1")
	require.NoError(t, err)
	assert.Equal(t, []string{"failed", "wet"}, []string{a.Verdict, a.Message})
	require.NoError(t, s.Write(Amend("s1", `{"end":"x"}`)))
	require.ErrorIs(t, s.Write(Amend("nobody", `{}`)), ErrGuard)
	require.ErrorIs(t, s.Write(NoteSession("nobody", "x")), ErrGuard)
	live, err = s.LiveSessions(t.Context())
	require.NoError(t, err)
	assert.Empty(t, live)
	_, err = s.SessionByID(t.Context(), "none")
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestTheNewestRunOfANameGrows(t *testing.T) {
	s := open(t)
	wall(t, s, 1, "saltmarsh", "nightly")
	wall(t, s, 2, "tidal", "nightly")
	newest := wall(t, s, 3, "saltmarsh", "nightly")
	r, err := s.RunByName(t.Context(), "saltmarsh", "nightly")
	require.NoError(t, err)
	assert.Equal(t, newest, r.ID)
	_, err = s.RunByName(t.Context(), "saltmarsh", "weekly")
	assert.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, s.Write(ReviseRun(newest, "failed", `{"failed":1}`)))
	r, _ = s.RunByName(t.Context(), "saltmarsh", "nightly")
	assert.Empty(t, r.Verdict, "a run that has not ended is not revised")
	require.NoError(t, s.Write(EndRun(newest, "passed", `{}`, 9)))
	require.NoError(t, s.Write(ReviseRun(newest, "failed", `{"failed":1}`)))
	r, _ = s.RunByName(t.Context(), "saltmarsh", "nightly")
	assert.Equal(t, "failed", r.Verdict)
	require.NoError(t, s.Write(ReopenRun(newest)))
	r, _ = s.RunByName(t.Context(), "saltmarsh", "nightly")
	assert.Equal(t, []any{"", int64(0)}, []any{r.Verdict, r.EndedAt})
}

func TestFilesThatAreKept(t *testing.T) {
	s := open(t)
	run := wall(t, s, 1, "saltmarsh", "by hand")
	for i, id := range []string{"a1", "a2"} {
		require.NoError(t, s.Write(AddAttempt(Attempt{ID: id, RunID: run, Test: i, Number: 1, Verdict: "passed", StartedAt: int64(100 * i), TookMS: 50, Detail: "{}"},
			[]File{{Name: "video.webm", Kind: "video", Hash: "same", Size: 9}, {Name: "log", Kind: "logs", Hash: id, Size: 1}})...))
	}
	kept, err := s.KeptFiles(t.Context(), 120)
	require.NoError(t, err)
	require.Len(t, kept, 2, "only of attempts that were over by then")
	assert.Equal(t, []any{"saltmarsh", "passed", int64(50)}, []any{kept[0].Project, kept[0].Verdict, kept[0].At})
	require.NoError(t, s.Write(DropFile("a1", "video.webm"), DropFile("a1", "log")))
	used, err := s.HashesInUse(t.Context(), []string{"same", "a1", "a2", "unknown"})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"same", "a2"}, used, "contents that another attempt has as well stay")
	used, err = s.HashesInUse(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, used)
	require.Error(t, s.Write(AddFile(File{AttemptID: "a2", Name: "log", Hash: "other"})), "a name is given once")
}

func TestWhatIsSettledForAProject(t *testing.T) {
	s := open(t)
	_, err := s.ProjectByName(t.Context(), "saltmarsh")
	require.ErrorIs(t, err, ErrNotFound)
	for _, keep := range []string{`[]`, `[{"days":3}]`} {
		require.NoError(t, s.Write(SaveProject(Project{Name: "saltmarsh", Record: `{"video":"always"}`, Keep: keep})))
	}
	p, err := s.ProjectByName(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, `[{"days":3}]`, p.Keep)
	all, err := s.Projects(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1)
}
