package agent_test

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// carry runs a command suite of some files and gives the run once it has ended.
func (o *office) carry(suite string, files map[string]string, secrets map[string]string, retries int) api.Run {
	o.t.Helper()
	site := httptest.NewServer(http.NotFoundHandler())
	o.t.Cleanup(site.Close)
	var buf bytes.Buffer
	zw := gzip.NewWriter(&buf)
	tw := tar.NewWriter(zw)
	all := maps.Clone(files)
	all["pane.yaml"] = "project: saltmarsh\nsuites:\n  s:\n" + suite + "matrices: {m: {axes: {" +
		cmp.Or(o.axes, "browser: [chromium]") + "}}}\n" +
		"environments: {" + cmp.Or(o.env, "e") + ": {base: '" + site.URL + "', vars: {boat: Osprey}}}\n"
	for _, name := range slices.Sorted(maps.Keys(all)) {
		require.NoError(o.t, tw.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Size: int64(len(all[name])), Mode: 0o644}))
		_, _ = tw.Write([]byte(all[name]))
	}
	require.NoError(o.t, tw.Close())
	require.NoError(o.t, zw.Close())
	sum := sha256.Sum256(buf.Bytes())
	hash := hex.EncodeToString(sum[:])
	require.NoError(o.t, o.svc.PutBundle(hash, &buf))
	run, err := o.svc.Submit(o.t.Context(), api.Who{Name: "kestrel", Rights: api.InLab(api.Runner)}, api.RunRequest{Bundle: hash, Suite: "s",
		Secrets: secrets, Retries: retries})
	require.NoError(o.t, err)
	return o.ended(run.Number)
}

// told are the tests of a run with what became of each.
func told(run api.Run) map[string]string {
	out := map[string]string{}
	for i, t := range run.Tests {
		c := run.Cells[0][i]
		out[t.Name] = strings.TrimSuffix(string(c.Verdict)+": "+c.Message, ": ")
	}
	return out
}

func (o *office) attempt(run api.Run, test string) api.Attempt {
	o.t.Helper()
	i := slices.IndexFunc(run.Tests, func(t api.Test) bool { return t.Name == test })
	require.GreaterOrEqual(o.t, i, 0, test)
	got, err := o.svc.TestOfRun(o.t.Context(), run.Number, i)
	require.NoError(o.t, err)
	require.NotEmpty(o.t, got.Results[0].Attempts)
	return got.Results[0].Attempts[len(got.Results[0].Attempts)-1]
}

func (o *office) text(a api.Attempt, name string) string {
	o.t.Helper()
	_, f, err := o.svc.OpenFile(o.t.Context(), a.ID, name)
	require.NoError(o.t, err)
	defer f.Close()
	raw, err := io.ReadAll(f)
	require.NoError(o.t, err)
	return string(raw)
}

// Whatever a command does, each file has a verdict of its own and each test that was told
// of has its own.
func TestCommandsAndWhatTheyDo(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 2)
	run := o.carry("    command: sh {file}\n    cases: [t/*.sh]\n    results: tap\n    limit: 3s\n    env: {OWN: mine}\n", map[string]string{
		"t/good.sh":  "echo 1..2; echo ok 1 - low; echo not ok 2 - high; exit 1",
		"t/half.sh":  "echo 1..3; echo ok 1 - low; exit 3",
		"t/none.sh":  "exit 0",
		"t/hang.sh":  "echo 1..1; echo ok 1 - low; sleep 100",
		"t/fork.sh":  "(sleep 1000 &) ; echo 1..1; echo ok 1 - low",
		"t/odd.sh":   `printf '\377\376\000 noise\n1..1\nok 1 - low\n'`,
		"t/twice.sh": "echo 1..2; echo not ok 1 - low; echo ok 2 - low",
		"t/left.sh": `echo 1..1; echo ok 1 - low tide; mkdir "$PANE_ATTACHMENTS/low-tide"; echo wet > "$PANE_ATTACHMENTS/low-tide/note.txt"
			ln -s /etc/passwd "$PANE_ATTACHMENTS/passwd"; echo all > "$PANE_ATTACHMENTS/all.txt"`,
		"t/env.sh": `echo 1..1; [ "$PANE_BROWSER $OWN $PANE_VAR_BOAT $PANE_AXIS_BROWSER" = "chromium mine Osprey chromium" ] &&
			[ -f "$PANE_COMBINATION_FILE" ] && [ -n "$PANE_ENDPOINT" ] && case $PANE_BASE in http://127*) echo ok 1 - env;; esac; pwd; ls`,
		"t/lacks.sh":  "no-such-program-here",
		"t/{base}.sh": `echo 1..1; echo ok 1 - low`,
		"t/pipe.sh":   `mkfifo "$PANE_ATTACHMENTS/pipe"; echo 1..1; echo ok 1 - low`,
		"t/own.sh":    `echo x > t/own.sh; rm -f t/good.sh; echo 1..1; echo ok 1 - low`,
		"t/secret.sh": `echo "the word is $PANE_VAR_WORD"; echo 1..1; echo "not ok 1 - $PANE_VAR_WORD"`,
	}, map[string]string{"word": "slackwater-77"}, 0)
	got := told(run)
	for name, want := range map[string]string{
		"t/good.sh": "passed", "t/good.sh › low": "passed", "t/good.sh › high": "failed",
		"t/half.sh": "failed: the results are cut short, after 1 tests: 3: 3 tests were planned and 1 came", "t/half.sh › low": "passed",
		"t/none.sh": "failed: results:1: the file is empty",
		"t/hang.sh": "failed: the command took longer than 3s, after 1 tests", "t/hang.sh › low": "passed",
		"t/fork.sh": "passed", "t/fork.sh › low": "passed",
		"t/odd.sh": "passed", "t/odd.sh › low": "passed",
		"t/twice.sh": "passed", "t/twice.sh › low": "flaky",
		"t/left.sh": "passed", "t/left.sh › low tide": "passed",
		"t/env.sh": "passed", "t/env.sh › env": "passed",
		"t/{base}.sh": "passed", "t/{base}.sh › low": "passed",
		"t/pipe.sh": "passed", "t/pipe.sh › low": "passed",
		"t/own.sh": "passed", "t/own.sh › low": "passed",
		"t/secret.sh": "passed",
	} {
		assert.Equal(t, want, got[name], name)
	}
	assert.Contains(t, got["t/lacks.sh"], "lab-fault: a program of the command is not on this agent (exit code 127)")
	names := func(a api.Attempt) (out []string) {
		for _, f := range a.Files {
			out = append(out, f.Name)
		}
		return out
	}
	assert.Equal(t, []string{"agent.log", "note.txt"}, names(o.attempt(run, "t/left.sh › low tide")))
	assert.Equal(t, []string{"agent.log", "all.txt", "output.log"}, names(o.attempt(run, "t/left.sh")),
		"what leads out of the directory is not kept")
	file := o.attempt(run, "t/secret.sh")
	for _, name := range []string{"output.log", "agent.log"} {
		assert.NotContains(t, o.text(file, name), "slackwater-77", name)
	}
	assert.Contains(t, o.text(file, "output.log"), "the word is")
	for name := range got {
		assert.NotContains(t, name, "slackwater-77", "not even in a name")
	}
}

// What a file's exit code says is all, where a suite asks for no more.
func TestCommandsByTheirExitCode(t *testing.T) {
	for name, bare := range map[string]bool{"in a sandbox": false, "without one": true} {
		t.Run(name, func(t *testing.T) {
			o := opened(t, t.TempDir(), "127.0.0.1:0")
			o.bare = bare
			o.work(&pretend{}, "quay", 1)
			got := told(o.carry("    command: sh {file}\n    cases: ['*.sh']\n    results: exit\n", map[string]string{"a.sh": "exit 0",
				"b.sh": "echo the gate is shut >&2; exit 4", "c.sh": "[ -f c.sh ] && [ -d \"$PANE_ATTACHMENTS\" ] && echo x > own.txt",
				"d.sh": "setsid sleep 4711 & exit 0"}, nil, 0))
			assert.Equal(t, map[string]string{"a.sh": "passed", "b.sh": "failed: exit code 4: the gate is shut", "c.sh": "passed",
				"d.sh": "passed"}, got)
			lines, err := filepath.Glob("/proc/[0-9]*/cmdline")
			require.NoError(t, err)
			for _, file := range lines {
				line, _ := os.ReadFile(file) // of a process that has ended meanwhile there is none
				assert.NotContains(t, string(line), "sleep\x004711", "what it left over is ended")
			}
		})
	}
}

// The endpoint opens the pane's combination whatever is asked for, and its sessions are
// those of the tests that opened them.
func TestTheEndpointOfACommand(t *testing.T) {
	if _, err := exec.LookPath("node"); err != nil {
		t.Skip("no node here")
	}
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 1)
	run := o.carry("    command: node {file}\n    cases: ['*.mjs']\n    results: tap\n", map[string]string{"a.mjs": `
		const call = async (method, path, body) => {
			const r = await fetch(process.env.PANE_ENDPOINT + path, { method, body: body && JSON.stringify(body) });
			return { status: r.status, ...(await r.json()) };
		};
		console.log("1..6");
		const check = (n, ok, name) => console.log((ok ? "ok " : "not ok ") + n + " - " + name);
		check(1, (await call("GET", "/status")).value.ready, "ready");
		const s = await call("POST", "/session", { capabilities: { alwaysMatch: { browserName: "netscape", "moz:firefoxOptions": { binary: "/x" },
			"pane:options": { test: "title" } } } });
		const id = s.value.sessionId;
		check(2, s.status === 200 && id, "opens");
		check(3, (await call("GET", "/session/" + id + "/title")).value === "Harbour", "title");
		check(4, (await call("GET", "/session/nobody/title")).value.error === "invalid session id", "nobody");
		check(5, (await call("POST", "/session/" + id + "/url", { url: "file:///etc/passwd" })).status === 400, "files");
		await call("DELETE", "/session/" + id);
		check(6, (await call("GET", "/session/" + id + "/title")).value.error === "invalid session id", "ended");
	`}, nil, 0)
	assert.Equal(t, verdict.Counts{verdict.Passed: 7}, run.Counts, "%v", told(run))
	assert.Equal(t, 1, p.launched)
	assert.Len(t, o.attempt(run, "a.mjs › title").Sessions, 1)
	assert.Empty(t, o.attempt(run, "a.mjs › opens").Sessions)
	assert.Contains(t, o.text(o.attempt(run, "a.mjs › title"), "agent.log"), "this test's by its name")
}

// A test that failed is tried again by its file's command, and no other test of the file is
// told again.
func TestACommandsTestIsTriedAgain(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(&pretend{}, "quay", 1)
	run := o.carry("    command: sh {file}\n    cases: ['*.sh']\n    results: tap\n", map[string]string{
		"a.sh": "echo 1..2; echo ok 1 - low; echo not ok 2 - high"}, nil, 1)
	for name, attempts := range map[string]int{"a.sh": 1, "a.sh › low": 1, "a.sh › high": 2} {
		i := slices.IndexFunc(run.Tests, func(t api.Test) bool { return t.Name == name })
		assert.Equal(t, attempts, run.Cells[0][i].Attempts, name)
	}
	who := api.Who{Name: "kestrel", Rights: api.InLab(api.Runner)}
	again, err := o.svc.Again(t.Context(), who, run.Number, api.AgainRequest{NotPassed: true})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a.sh": "passed", "a.sh › low": "passed", "a.sh › high": "failed"}, told(o.ended(again.Number)))
}

// A preparing command runs once for what it prepares, and its work is there for every file;
// one that fails is the lab's trouble, of every file.
func TestACommandIsPreparedOnce(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 2)
	suite := "    command: sh {file}\n    prepare: date +%N > stamp; mkdir bin; ln -s ../stamp bin/link\n" +
		"    cases: [t/*.sh]\n    results: exit\n"
	files := map[string]string{"t/a.sh": "cat bin/link; echo spoilt > stamp", "t/b.sh": "cat bin/link"}
	first := o.carry(suite, files, nil, 0)
	assert.Equal(t, map[string]string{"t/a.sh": "passed", "t/b.sh": "passed"}, told(first))
	stamp := o.text(o.attempt(first, "t/a.sh"), "output.log")
	assert.NotEmpty(t, strings.TrimSpace(stamp))
	assert.Equal(t, stamp, o.text(o.attempt(first, "t/b.sh"), "output.log"), "once for both")
	second := o.carry(strings.Replace(suite, "date +%N", "echo no; exit 4; date", 1), files, nil, 0)
	assert.Equal(t, map[string]string{"t/a.sh": "lab-fault: the preparing command ended with exit code 4: no",
		"t/b.sh": "lab-fault: the preparing command ended with exit code 4: no"}, told(second))
}

// A suite's needs narrow its agents, tools with their versions among them; rows of data
// come as variables, and what insists on names on the path finds the pane's browser there.
func TestWhatACommandFinds(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 1)
	suite := "    command: sh {file}\n    cases: [t/*.sh]\n    results: tap\n    needs: {perl: '>=5'}\n" +
		"    data: {file: boats.csv, name: '${row.boat}'}\n"
	run := o.carry(suite, map[string]string{"boats.csv": "boat,length m\nOsprey,9\nHeron,12\n",
		"t/a.sh": `echo 1..1; [ -n "$PANE_ROW_LENGTH_M" ] && echo "ok 1 - $PANE_ROW_BOAT in $PANE_CASE"`},
		nil, 0)
	assert.Equal(t, map[string]string{"t/a.sh › Osprey": "passed", "t/a.sh › Heron": "passed",
		"t/a.sh › Osprey › Osprey in t/a.sh › Osprey": "passed", "t/a.sh › Heron › Heron in t/a.sh › Heron": "passed"}, told(run))
}

// While a command runs, what it prints can be read from outside.
func TestACommandIsHeardWhileItRuns(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(&pretend{}, "quay", 1)
	heard := make(chan string, 1)
	ctx, enough := context.WithCancel(t.Context())
	defer enough()
	go func() {
		defer close(heard)
		for ctx.Err() == nil {
			for _, p := range o.svc.Outputs(1) {
				if out, err := o.svc.Output(1, p.Pane, p.Test, 0); err == nil && strings.Contains(out.Text, "flood") {
					heard <- p.Name + ": " + out.Text
					return
				}
			}
		}
	}()
	run := o.carry("    command: sh {file}\n    cases: ['*.sh']\n    results: exit\n", map[string]string{
		"a.sh": `echo "flood of $PANE_VAR_WORD"; sleep 3`}, map[string]string{"word": "slackwater-77"}, 0)
	enough() // what was not heard by now will not be
	assert.Equal(t, "a.sh: flood of •••\n", <-heard)
	assert.Equal(t, map[string]string{"a.sh": "passed"}, told(run))
	assert.Empty(t, o.svc.Outputs(1))
	out, err := o.svc.Output(1, 0, 0, 0)
	require.NoError(t, err)
	assert.False(t, out.Live)
}

// A suite that is cut by names runs its command for each, and what that tells of is below it.
func TestACommandForEachName(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(&pretend{}, "quay", 1)
	run := o.carry("    command: sh run.sh {name}\n    list: cat names\n    results: tap\n    files: [run.sh]\n", map[string]string{
		".pane-names/s": "hold a berth\nsign in's page\n",
		"run.sh":        `echo 1..1; [ "$1" = "$PANE_CASE" ] && echo "ok 1 - $1"`}, nil, 0)
	assert.Equal(t, map[string]string{"hold a berth": "passed", "hold a berth › hold a berth": "passed", "sign in's page": "passed",
		"sign in's page › sign in's page": "passed"}, told(run))
}
