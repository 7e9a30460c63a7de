package agent_test

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine/standin"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
)

// grown is what has come of a file of an open session.
func (o *office) grown(session, name string) string {
	raw, _ := os.ReadFile(filepath.Join(o.dir, "blobs", "growing", session, name))
	return string(raw)
}

func (o *office) growing() []string {
	all, err := filepath.Glob(filepath.Join(o.dir, "blobs", "growing", "*"))
	require.NoError(o.t, err)
	return all
}

// commands reads the log that is kept of a session.
func (o *office) commands(session string) (names []string) {
	o.t.Helper()
	_, f, err := o.svc.OpenFile(o.t.Context(), attempt.Of(session), recording.CommandsFile)
	require.NoError(o.t, err)
	defer f.Close()
	all, err := recording.Read[recording.Command](f)
	require.NoError(o.t, err)
	for _, c := range all {
		names = append(names, c.Name)
	}
	return names
}

func TestARecordingArrivesWhileItsSessionRuns(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	id := r.open(`{"test":"Tides","record":{"commands":"always","screenshots":"always"}}`)
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	o.until(func() bool { return strings.Contains(o.grown(id, recording.CommandsFile), "Navigate To") })
	o.until(func() bool { return o.grown(id, "command-00001.png") != "" })
	r.do("GET", "/session/"+id+"/title", "")
	r.do("DELETE", "/session/"+id, "")
	s := o.over(id)
	assert.Equal(t, []string{"Navigate To", "Get Title", "Delete Session"}, o.commands(id))
	var kinds []string
	for _, f := range s.Files {
		kinds = append(kinds, f.Kind)
	}
	assert.Contains(t, kinds, "screenshots")
	o.until(func() bool { return len(o.growing()) == 0 })
}

func TestWhatIsKeptUnlessPassedIsNotSentBefore(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	id := r.open(`{"test":"Tides","record":{"commands":"unless-passed","screenshots":"always"}}`)
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	o.until(func() bool { return o.grown(id, "command-00001.png") != "" })
	assert.Empty(t, o.grown(id, recording.CommandsFile))
	r.do("POST", "/session/"+id+"/pane/verdict", `{"verdict":"passed"}`)
	r.do("DELETE", "/session/"+id, "")
	for _, f := range o.over(id).Files {
		assert.NotEqual(t, "commands", f.Kind)
	}
}

func TestWhatALostAgentRecordedIsKept(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	stop := o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	id := r.open(`{"test":"Tides","record":{"commands":"always","screenshots":"always","logs":"always","video":"unless-passed"}}`)
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	o.until(func() bool {
		return strings.Contains(o.grown(id, recording.CommandsFile), "Navigate To") && o.grown(id, "command-00001.png") != ""
	})
	require.NoError(t, stop())
	assert.Equal(t, verdict.LabFault, o.over(id).Verdict)
	o.until(func() bool { return len(o.over(id).Files) == 2 })
	s := o.over(id)
	assert.Equal(t, []string{"Navigate To"}, o.commands(id))
	reasons := map[record.Kind]string{}
	for _, l := range s.Detail.Lacking {
		reasons[l.Kind] = l.Reason
	}
	assert.Equal(t, map[record.Kind]string{record.Logs: "its agent was lost, and this is handed in at the end",
		record.Video: "its agent was lost, and this is handed in at the end"}, reasons,
		"what is there and what was not asked for is not missed")
	o.until(func() bool { return len(o.growing()) == 0 })

	_, err := o.svc.Grow("quay", id, fence(1), recording.CommandsFile, 0, strings.NewReader("late"))
	assert.ErrorContains(t, err, "is not open under lease 4294967296", "nothing is added after the end")
}

func TestWhatALostAgentRecordedOfAScriptIsKept(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	p.set(func() { p.hold = make(chan struct{}) })
	stop := o.work(p, "quay", 1)
	number := o.run(1, "")
	open := o.theOpenOne()
	lease := fence(1)
	grown, err := o.svc.Grow("quay", open.ID, lease, recording.CommandsFile, 0, strings.NewReader(`{"number":1,"name":"Navigate To"}`+"\n"))
	require.NoError(t, err)
	assert.Equal(t, link.Grown{Have: 34}, grown)
	require.NoError(t, stop())
	p.set(func() { close(p.hold); p.hold = nil })
	o.until(func() bool {
		_, f, err := o.svc.OpenFile(t.Context(), attempt.Of(open.ID), recording.CommandsFile)
		return err == nil && f.Close() == nil
	})
	assert.Equal(t, []string{"Navigate To"}, o.commands(open.ID))
	s := o.over(open.ID)
	assert.Equal(t, verdict.LabFault, s.Verdict)
	assert.Equal(t, "T0", s.Test)
	o.work(p, "tern", 1)
	run := o.ended(number)
	assert.Equal(t, verdict.Passed, run.Cells[0][0].Verdict)
	assert.Equal(t, 2, run.Cells[0][0].Attempts, "what the lab lost does not make a test flaky")
}

func TestPiecesThatAreNotTaken(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(birds(standin.Faults{}), "quay", 1)
	id := o.runner("build", api.Runner).open(`{"test":"Tides"}`)
	put := func(session string, n int64, name string, at int64, r io.Reader) string {
		_, err := o.svc.Grow("quay", session, fence(n), name, at, r)
		require.Error(t, err)
		return err.Error()
	}
	assert.Contains(t, put(id, 2, recording.CommandsFile, 0, strings.NewReader("x")), "not open under lease 8589934592")
	assert.Contains(t, put("../"+id, 1, recording.CommandsFile, 0, strings.NewReader("x")), "is not open")
	for _, name := range []string{"../commands.jsonl", "", ".hidden.png", "a/b.png"} {
		assert.Contains(t, put(id, 1, name, 0, strings.NewReader("x")), "is not a name for a file")
	}
	assert.Contains(t, put(id, 1, "page.html", 0, strings.NewReader("x")), "is not a file of a recording")
	assert.Contains(t, put(id, 1, recording.VideoFile, 0, strings.NewReader(strings.Repeat("x", attempt.MaxPiece+1))), "at most")
}

func TestPiecesOutliveTheService(t *testing.T) {
	dir := t.TempDir()
	o, site := opened(t, dir, "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	id := r.open(`{"test":"Tides","record":{"commands":"always"}}`)
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	o.until(func() bool { return strings.Contains(o.grown(id, recording.CommandsFile), "Navigate To") })
	o.stop()
	stray := filepath.Join(dir, "blobs", "growing", "stray")
	require.NoError(t, os.MkdirAll(stray, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(stray, recording.CommandsFile), []byte("{}\n"), 0o600))

	o2 := opened(t, dir, o.address)
	r.o = o2
	assert.NoDirExists(t, stray, "what grew for a session that is no more is dropped")
	assert.Contains(t, o2.grown(id, recording.CommandsFile), "Navigate To", "what grew for an open one stays")
	o2.until(func() bool {
		a, err := r.try(t.Context(), "GET", "/session/"+id+"/title", "")
		return err == nil && a.status == 200
	})
	o2.until(func() bool { return strings.Contains(o2.grown(id, recording.CommandsFile), "Get Title") })
	r.do("DELETE", "/session/"+id, "")
	o2.over(id)
	names := o2.commands(id)
	assert.Equal(t, "Navigate To", names[0])
	assert.Equal(t, "Delete Session", names[len(names)-1])
}

func TestFilesThatAreHandedOver(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(birds(standin.Faults{}), "quay", 1)
	id := o.runner("build", api.Runner).open(`{"test":"Tides","record":"never"}`)
	const tide, ebb = "tide\n", "ebb\n"
	_, err := o.svc.Grow("quay", id, fence(1), recording.ConsoleFile, 0, strings.NewReader(tide))
	require.NoError(t, err)
	_, err = o.svc.Grow("quay", id, fence(1), recording.VideoFile, 0, strings.NewReader("cut off"))
	require.NoError(t, err)
	hash := func(s string) string {
		sum := sha256.Sum256([]byte(s))
		return hex.EncodeToString(sum[:])
	}
	hand := func(n int64, files ...attempt.File) []string {
		answer, err := o.svc.HandOver("quay", link.Handover{Session: id, Fence: fence(n), Files: files})
		require.NoError(t, err)
		return answer.Lacking
	}
	console, video, log := attempt.File{Name: recording.ConsoleFile, Hash: hash(tide)}, attempt.File{Name: recording.VideoFile,
		Hash: hash("whole")}, attempt.File{Name: "agent.log", Hash: hash(ebb)}
	assert.Equal(t, []string{recording.ConsoleFile}, hand(2, console), "under another lease nothing counts")
	assert.Equal(t, []string{recording.VideoFile, "agent.log"}, hand(1, console, video, log), "what is not whole, and what never came")
	require.NoError(t, o.svc.PutFile("quay", fence(1), log.Hash, strings.NewReader(ebb)))
	assert.Equal(t, []string{recording.VideoFile}, hand(1, console, video, log), "what is there by its contents is not sent again")
	for _, bad := range []attempt.File{{Name: "../x", Hash: log.Hash}, {Name: "x", Hash: "tide"}} {
		_, err := o.svc.HandOver("quay", link.Handover{Session: id, Fence: fence(1), Files: []attempt.File{bad}})
		assert.ErrorContains(t, err, "is not a name for a file")
	}
	_, err = o.svc.HandOver("quay", link.Handover{Session: id, Fence: fence(1), Files: make([]attempt.File, attempt.MaxFiles+1)})
	assert.ErrorContains(t, err, "at most")
}
