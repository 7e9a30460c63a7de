package store

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"parallelpane/internal/core/attempt"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// wall writes a run of a kind with two tests in two panes.
func wall(t require.TestingT, s *Store, number int, kind, project, name string) int {
	r := Run{ID: fmt.Sprint("run-", number), Number: number, Project: project, Suite: name, Kind: kind, By: "tern", Vars: "{}",
		Request: "{}", Counts: "{}", Plan: "{}", CreatedAt: int64(number)}
	require.NoError(t, s.Write(AddRun(r, nil, nil)...))
	for pane, label := range []string{"chromium · phone", "webkitgtk"} {
		for test, name := range []string{"Hold a berth", "Read the tides"} {
			var p *Pane
			var x *Test
			if test == 0 {
				p = &Pane{Index: pane, Key: label, Label: label, Values: "{}", Needs: "{}", Dealt: "[]"}
			}
			if pane == 0 {
				x = &Test{Index: test, Name: name, Tags: []string{`["berths"]`, `["berths","slow"]`}[test], Locks: "[]"}
			}
			require.NoError(t, s.Write(AddCell(r, p, x, pane, test)...))
		}
	}
	return number
}

func session(run int, id string) Session {
	return Session{ID: id, Run: run, Name: "Tides", Tags: "[]", By: "tern", Asked: "{}", Options: "{}", State: "waiting", QueuedAt: 1}
}

// asked is the id of a session that was made at a time in milliseconds.
func asked(ms int64, n byte) string {
	var u uuid.UUID
	copy(u[:], firstID(ms))
	u[6], u[8], u[14], u[15] = 0x70, 0x80, n, 1
	return u.String()
}

// Whatever is asked for, the list is what a plain look at every session would
// give, newest first: those of runners, which have records of their own, and those
// of scripts, which their attempts tell.
func TestSessionsAreFoundByEveryFilter(t *testing.T) {
	s := open(t)
	runs := []int{wall(t, s, 1, "remote", "saltmarsh", "build 811"), wall(t, s, 2, "script", "tidal", "50%_off")}
	names, labels, tests := []string{"build 811", "50%_off"}, []string{"chromium · phone", "webkitgtk"},
		[]string{"Hold a berth", "Read the tides"}
	projects, kinds := []string{"saltmarsh", "tidal"}, []string{"remote", "script"}
	type known struct {
		Session
		kind, note string
	}
	var all []known
	for i := range 60 {
		at := int64(1000 + i/2) // two at a time
		x := session(runs[i%2], asked(at, byte(i)))
		x.Pane, x.Test, x.Number, x.QueuedAt = i/2%2, i/4%2, 1+i, at
		x.Browser, x.Device, x.Agent = []string{"chromium", "firefox", "webkitgtk"}[i%3], []string{"", "phone"}[i/3%2],
			[]string{"quay", "pier"}[i/5%2]
		x.State, x.Verdict = []string{"waiting", "open", "ended", "ended"}[i/2%4], []string{"", "", "passed", "failed"}[i/2%4]
		x.Message = []string{"", "100% wet", "under_score", `back\slash`}[i/8%4]
		k := known{x, kinds[i%2], []string{"", "", "", "a note"}[i/3%4]}
		if k.kind == "remote" {
			k.Tags, k.By = []string{"[]", `["berths"]`, `["berths","slow"]`}[i%3], []string{"tern", `O'Gull "x"`}[i/7%2]
			require.NoError(t, s.Write(AddSession(k.Session)))
		} else {
			k.State, k.Name, k.Tags, k.How = "ended", tests[x.Test], []string{`["berths"]`, `["berths","slow"]`}[x.Test], ""
			k.Verdict = []string{"passed", "failed"}[i/2%2]
			a := tried(attempt.Of(x.ID), 2, x.Pane, x.Test, x.Number, k.Verdict)
			a.Agent, a.Message, a.RanOn = x.Agent, x.Message, fmt.Sprintf(`{"browser":%q,"device":%q,"version":"","os":""}`, x.Browser, x.Device)
			if i%12 == 11 {
				a.Sessions = 0 // the browser never opened
			}
			require.NoError(t, s.Write(AddAttempt(a, nil)...))
			if a.Sessions == 0 {
				_, err := s.SessionByID(t.Context(), x.ID)
				require.ErrorIs(t, err, ErrNotFound)
				continue
			}
		}
		if k.note != "" {
			require.NoError(t, s.Write(NoteSession(x.ID, k.note, "tern", 1)))
		}
		all = append(all, k)
	}
	like := func(text, part string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(part)) }
	rapid.Check(t, func(t *rapid.T) {
		maybe := func(label string, values ...string) string {
			return rapid.SampledFrom(append([]string{"", "", ""}, values...)).Draw(t, label)
		}
		f := SessionFilter{Text: maybe("text", "tides", "%", "_", `\`, "100%", "O'Gull", "#2", "BUILD", "nothing like it", "phone", "a note"),
			Test: maybe("test", "berth", "%", "tide"), Tag: maybe("tag", "berths", "slow", "none"),
			Browser: maybe("browser", "chromium", "webkitgtk"), Device: maybe("device", "phone"), Verdict: maybe("verdict", "passed", "failed"),
			State:   maybe("state", "waiting", "open", "ended"),
			Project: maybe("project", projects...), Kind: maybe("kind", "remote", "script"), Agent: maybe("agent", "quay"),
			Run:   rapid.IntRange(0, 2).Draw(t, "run"),
			Since: rapid.SampledFrom([]int64{0, 1010}).Draw(t, "since"), Until: rapid.SampledFrom([]int64{0, 1020}).Draw(t, "until"),
			Before: maybe("before", all[30].ID, all[31].ID), Limit: rapid.IntRange(1, 70).Draw(t, "limit")}
		var want []string
		for _, x := range slices.Backward(all) {
			run := x.Run - 1
			text := fmt.Sprintf("%s %s %s %s %s %s %s %s %s #%d", x.Name, tests[x.Test], names[run], projects[run], labels[x.Pane], x.By,
				x.Message, x.How, x.note, run+1)
			if like(text, f.Text) && like(tests[x.Test], f.Test) && (f.Tag == "" || strings.Contains(x.Tags, `"`+f.Tag+`"`)) &&
				(f.Browser == "" || f.Browser == x.Browser) && (f.Device == "" || f.Device == x.Device) &&
				(f.Verdict == "" || f.Verdict == x.Verdict) && (f.State == "" || f.State == x.State) && (f.Project == "" ||
				f.Project == projects[run]) && (f.Kind == "" || f.Kind == x.kind) &&
				(f.Agent == "" || f.Agent == x.Agent) && (f.Run == 0 || f.Run == run+1) && x.QueuedAt >= f.Since && (f.Until == 0 ||
				x.QueuedAt < f.Until) && (f.Before == "" || x.ID < f.Before) && len(want) < f.Limit {
				want = append(want, x.ID)
			}
		}
		rows, err := s.Sessions(t.Context(), f)
		require.NoError(t, err)
		var got []string
		for _, r := range rows {
			got = append(got, r.ID)
			one, err := s.SessionByID(t.Context(), r.ID)
			require.NoError(t, err)
			require.Equal(t, r, one)
		}
		require.Equal(t, want, got, "%+v", f)
	})
}

func TestASessionsLife(t *testing.T) {
	s := open(t)
	run := wall(t, s, 1, "remote", "saltmarsh", "by hand")
	x := session(run, "s1")
	require.NoError(t, s.Write(AddSession(x), LeaseSession("s1", 7, "quay")))
	live, err := s.LiveSessions(t.Context())
	require.NoError(t, err)
	require.Len(t, live, 1)
	assert.Equal(t, []any{int64(7), "quay", "waiting"}, []any{live[0].Fence, live[0].Agent, live[0].State})
	require.ErrorIs(t, s.Write(JudgeSession("s1", "passed", "", "tern")...), ErrGuard, "a verdict after the end is for one that has ended")
	x.Agent, x.Browser, x.Version, x.OS, x.BiDiKey, x.OpenedAt = "quay", "firefox", "153", "linux", "hash", 5
	require.NoError(t, s.Write(OpenSession(x)))
	got, err := s.SessionByID(t.Context(), "s1")
	require.NoError(t, err)
	assert.Equal(t, []any{"open", "firefox", "hash", int64(5), "by hand", "Hold a berth", "chromium · phone"}, []any{got.State,
		got.Browser, got.BiDiKey, got.OpenedAt, got.RunName, got.TestName, got.Label})
	x.Verdict, x.How, x.EndedAt = "ended", "the client ended it", 9
	require.NoError(t, s.Write(append(AddAttempt(tried("s1", run, 0, 0, 1, "ended"), nil), EndSession(x))...))
	later := x
	later.Verdict, later.How = "lab-fault", "something else"
	require.NoError(t, s.Write(EndSession(later)))
	got, err = s.SessionByID(t.Context(), "s1")
	require.NoError(t, err)
	assert.Equal(t, []string{"ended", "the client ended it", ""}, []string{got.Verdict, got.How, got.BiDiKey}, "how it ended first "+
		"counts, and its address opens nothing more")
	require.NoError(t, s.Write(JudgeSession("s1", "failed", "wet", "tern")...))
	a, err := s.AttemptByID(t.Context(), "s1")
	require.NoError(t, err)
	assert.Equal(t, []string{"failed", "wet"}, []string{a.Verdict, a.Message})
	require.NoError(t, s.Write(Amend("s1", Detail{Body: []byte("x")})...))
	require.ErrorIs(t, s.Write(Amend("nobody", Detail{Body: []byte("x")})...), ErrGuard)
	require.ErrorIs(t, s.Write(NoteSession("nobody", "x", "tern", 1)), ErrGuard)
	live, err = s.LiveSessions(t.Context())
	require.NoError(t, err)
	assert.Empty(t, live)
	_, err = s.SessionByID(t.Context(), "none")
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestTheNewestRunOfANameGrows(t *testing.T) {
	s := open(t)
	wall(t, s, 1, "remote", "saltmarsh", "nightly")
	wall(t, s, 2, "remote", "tidal", "nightly")
	newest := wall(t, s, 3, "remote", "saltmarsh", "nightly")
	r, err := s.RunByName(t.Context(), "saltmarsh", "nightly")
	require.NoError(t, err)
	assert.Equal(t, newest, r.Number)
	_, err = s.RunByName(t.Context(), "saltmarsh", "weekly")
	assert.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, s.Write(ReviseRun(newest, "failed", `{"failed":1}`, "[]")...))
	r, _ = s.RunByName(t.Context(), "saltmarsh", "nightly")
	assert.Empty(t, r.Verdict, "a run that has not ended is not revised")
	require.NoError(t, s.Write(EndRun(newest, "passed", `{}`, "[]", 9)))
	require.NoError(t, s.Write(ReviseRun(newest, "failed", `{"failed":1}`, "[]")...))
	r, _ = s.RunByName(t.Context(), "saltmarsh", "nightly")
	assert.Equal(t, "failed", r.Verdict)
	require.NoError(t, s.Write(ReopenRun(newest)...))
	r, _ = s.RunByName(t.Context(), "saltmarsh", "nightly")
	assert.Equal(t, []any{"", int64(0)}, []any{r.Verdict, r.EndedAt})
}

func TestFilesThatAreKept(t *testing.T) {
	s := open(t)
	run := wall(t, s, 1, "remote", "saltmarsh", "by hand")
	for i, id := range []string{"a1", "a2"} {
		a := tried(id, run, 0, i, 1, "passed")
		a.StartedAt, a.TookMS = int64(100*i), 50
		require.NoError(t, s.Write(append(AddAttempt(a, []File{{Name: "video.webm", Kind: "video", Hash: "5a5a", Size: 9},
			{Name: "log", Kind: "logs", Hash: fmt.Sprintf("0%d", i), Size: 1}}),
			AddSession(Session{ID: id, Run: run, Test: i, State: "ended", Tags: "[]", Asked: "{}", Options: "{}"}))...))
	}
	films := Heap{Project: "saltmarsh", Kind: "video", Verdict: "passed", Files: 2, Bytes: 18}
	heaps, err := s.Heaps(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []Heap{{"saltmarsh", "logs", "passed", 2, 2}, films}, heaps)
	for _, c := range []struct {
		before      int64
		skip, limit int
		want        []string
	}{{150, 0, 9, []string{"a1", "a2"}}, {149, 0, 9, []string{"a1"}}, {150, 1, 9, []string{"a2"}},
		{150, 0, 1, []string{"a1"}}, {49, 0, 9, nil}} {
		old, err := s.OldFiles(t.Context(), films, c.before, c.skip, c.limit)
		require.NoError(t, err)
		var got []string
		for _, f := range old {
			got = append(got, f.Attempt)
		}
		assert.Equal(t, c.want, got, "only of attempts that were over by then, oldest first")
	}
	require.NoError(t, s.Write(append(JudgeSession("a2", "failed", "wet", "tern"), DropFile("a1", "video.webm"), DropFile("a1", "log"))...))
	heaps, err = s.Heaps(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []Heap{{"saltmarsh", "logs", "failed", 1, 1}, {"saltmarsh", "video", "failed", 1, 9}}, heaps)
	used, err := s.HashesInUse(t.Context(), []string{"5a5a", "00", "01", "77"})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"5a5a", "01"}, used, "contents that another attempt has as well stay")
	used, err = s.HashesInUse(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, used)
	require.Error(t, s.Write(AddFile(File{Attempt: "a2", Name: "log", Hash: "0b"})), "a name is given once")
	require.ErrorIs(t, s.Write(AddFile(File{Attempt: "nobody", Name: "log", Hash: "0b"})), ErrGuard)
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
