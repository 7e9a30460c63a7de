// Command shots takes the pictures in docs/screenshots from a running demo.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/sessions"
	"parallelpane/internal/webdriver"
)

func main() {
	out := flag.String("out", "docs/screenshots", "directory for the pictures")
	pane := flag.String("pane", "bin/pane", "the program")
	run := flag.Int("run", 1, "number of the run to show")
	test := flag.Int("test", 1, "index of the test to show")
	project := flag.String("project", "demo-data/saltmarsh", "the demo's project")
	token := flag.String("token-file", "demo-data/service/admin.token", "file with a token that may open sessions")
	only := flag.String("only", "", "take only pictures whose name contains this")
	flag.Parse()
	if err := take(context.Background(), *out, *pane, *project, *token, *run, *test, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func take(ctx context.Context, out, pane, project, token string, run, test int, only string) error {
	dir, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if pane, err = filepath.Abs(pane); err != nil {
		return err
	}
	wide, err := stage(ctx, pane, project)
	if err != nil {
		return err
	}
	session, err := failedSession(ctx, pane)
	if err != nil {
		return err
	}
	defect, err := causePage(ctx, pane, run)
	if err != nil {
		return err
	}
	pages := map[string]string{
		"overview": "/", "beside": fmt.Sprintf("/runs/%d/tests/%d/beside", run, test), "trends": "/trends?by=device",
		"compare": fmt.Sprintf("/compare?was=%[1]d+browser%%3Dchromium&is=%[1]d+browser%%3Dfirefox", run), "mail": mailbox + "/1",
		"run": fmt.Sprintf("/runs/%d", run), "test": fmt.Sprintf("/runs/%d/tests/%d", run, test),
		"timeline": fmt.Sprintf("/runs/%d/timeline", wide), "forecast": fmt.Sprintf("/runs/%d/forecast", wide),
		"session": session, "defect": defect,
		"fleet": "/fleet?needs=browser%3Dheron%7Cgannet+site%3Dquay%7Cboathouse", "matrix": "/matrix?from=saltmarsh%3A+harbour",
		"start": "/start?preset=harbour-pairs", "schedules": "/schedules",
	}
	if err := browse(ctx, dir, pane, out, only, pages); err != nil {
		return err
	}
	if strings.Contains("reach-in", only) {
		if err := reachIn(ctx, dir, pane, token, out); err != nil {
			return fmt.Errorf("reach-in: %w", err)
		}
	}
	for name, command := range map[string]string{
		"pane-run":         pane + " run --dir " + project + " --tag tides",
		"pane-agent-check": pane + " agent check",
		"pane-causes":      pane + " causes " + strconv.Itoa(run),
	} {
		if strings.Contains(name, only) {
			if err := terminal(ctx, filepath.Join(out, name+".png"), command); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
	}
	return nil
}

// mailbox is the demo's stand-in for a mail server.
const mailbox = "http://127.0.0.1:7482"

// causePage is the page of a run's first cause that has no defect yet, with the form to file
// one open.
func causePage(ctx context.Context, pane string, run int) (string, error) {
	out, err := exec.CommandContext(ctx, pane, "causes", strconv.Itoa(run), "--json").Output()
	if e, ok := errors.AsType[*exec.ExitError](err); err != nil && (!ok || e.ExitCode() != 1) {
		return "", fmt.Errorf("pane causes: %w", err)
	}
	var found struct {
		Causes []struct {
			ID     string
			Defect *struct{}
		}
	}
	if err := json.Unmarshal(out, &found); err != nil {
		return "", err
	}
	for _, c := range found.Causes {
		if c.Defect == nil {
			return fmt.Sprintf("/runs/%d/causes/%s#defect", run, c.ID), nil
		}
	}
	return "", fmt.Errorf("every cause of run %d has a defect", run)
}

// stage puts presets and schedules there, once, and runs the wide matrix, whose
// number it gives.
func stage(ctx context.Context, pane, project string) (wide int, err error) {
	for _, args := range [][]string{
		{"preset", "save", "harbour-pairs", "--dir", project, "--matrix", "harbour"},
		{"preset", "save", "smoke", "--dir", project, "--matrix", "quick", "--tag", "smoke"},
		{"schedule", "add", "nightly", "harbour-pairs", "FREQ=DAILY;BYHOUR=1;BYMINUTE=30;BYSECOND=0", "--zone", "Europe/Oslo"},
		{"schedule", "add", "weekday-mornings", "smoke", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=6;BYMINUTE=0;BYSECOND=0", "--zone",
			"Europe/Oslo", "--overlap", "skip"},
	} {
		if msg, err := exec.CommandContext(ctx, pane, args...).CombinedOutput(); err != nil && args[0] == "preset" {
			return 0, fmt.Errorf("pane %s: %w: %s", strings.Join(args, " "), err, msg)
		}
	}
	runs, err := exec.CommandContext(ctx, pane, "runs", "--json").Output()
	if err != nil {
		return 0, fmt.Errorf("pane runs: %w (is the demo running?)", err)
	}
	var all []struct {
		Number int
		Matrix string
	}
	if err := json.Unmarshal(runs, &all); err != nil {
		return 0, err
	}
	for _, r := range all {
		if r.Matrix == "harbour" {
			return r.Number, nil
		}
	}
	// Some of its tests fail, as they are made to.
	raw, err := exec.CommandContext(ctx, pane, "run", "--dir", project, "--matrix", "harbour", "--tag", "tides", "--json").Output()
	var run struct{ Number int }
	if json.Unmarshal(raw, &run) != nil || run.Number == 0 {
		return 0, fmt.Errorf("pane run: %w", err)
	}
	return run.Number, nil
}

// failedSession is the page of a runner's session that failed.
func failedSession(ctx context.Context, pane string) (string, error) {
	raw, err := exec.CommandContext(ctx, pane, "sessions", "--kind", "remote", "--verdict", "failed", "--browser",
		"firefox", "--json").Output()
	if err != nil {
		return "", fmt.Errorf("pane sessions: %w (is the demo running?)", err)
	}
	var all []struct{ ID string }
	if err := json.Unmarshal(raw, &all); err != nil || len(all) == 0 {
		return "", fmt.Errorf("no runner's session has failed: is the demo's runner done? %w", err)
	}
	return "/sessions/" + all[0].ID, nil
}

// console opens the console in Chromium, in a theme, and gives its address.
func console(ctx context.Context, dir, pane, theme string) (*sessions.Session, string, error) {
	host, err := sessions.NewHost(filepath.Join(dir, "sessions"), slog.New(slog.DiscardHandler), chromium.Family{})
	if err != nil {
		return nil, "", err
	}
	browsers := host.Found(ctx).Browsers
	if len(browsers) == 0 {
		return nil, "", fmt.Errorf("no chromium here")
	}
	profile := device.Profile{Name: "shots", Size: device.Size{Width: 1280, Height: 800}, Density: 1}
	s, err := host.Open(ctx, sessions.Request{Browser: browsers[0], Device: profile})
	if err != nil {
		return nil, "", err
	}
	link, err := exec.CommandContext(ctx, pane, "link").Output()
	if err != nil {
		s.Close()
		return nil, "", fmt.Errorf("pane link: %w (is the demo running?)", err)
	}
	enter := strings.TrimSpace(string(link))
	base, _, _ := strings.Cut(enter, "/enter")
	if err = s.Navigate(ctx, enter); err == nil {
		err = s.Execute(ctx, "localStorage.setItem('pane-theme', arguments[0])", nil, theme)
	}
	if err != nil {
		s.Close()
		return nil, "", err
	}
	return s, base, nil
}

// reachIn takes the page of an open session into which a person reaches.
func reachIn(ctx context.Context, dir, pane, token, out string) error {
	s, base, err := console(ctx, dir, pane, "dark")
	if err != nil {
		return err
	}
	defer s.Close()
	secret, err := os.ReadFile(token)
	if err != nil {
		return err
	}
	lab := webdriver.NewClient(base+"/webdriver", &http.Client{Transport: bearer(strings.TrimSpace(string(secret)))})
	open, err := lab.New(ctx, webdriver.Capabilities{"browserName": "firefox", "pane:options": map[string]any{
		"test": "Holding a berth by hand", "run": "build 813", "project": "saltmarsh", "record": "always"}})
	if err != nil {
		return err
	}
	defer open.Close(ctx)
	var at struct{ X, Y float64 } // where the first field is, in parts of the window
	if err := open.Navigate(ctx, "http://127.0.0.1:7480/berths/A1"); err != nil {
		return err
	}
	if err := open.Execute(ctx, `const r = document.querySelector("input[name=boat]").getBoundingClientRect();
		return {X: (r.x + r.width / 2) / innerWidth, Y: (r.y + r.height / 2) / innerHeight}`, &at); err != nil {
		return err
	}
	if err := s.Navigate(ctx, base+"/sessions/"+open.ID); err != nil {
		return err
	}
	shown := func(condition string, args ...any) error {
		for range 400 {
			var ok bool
			if err := s.Execute(ctx, condition, &ok, args...); err != nil || ok {
				return err
			}
			time.Sleep(50 * time.Millisecond)
		}
		return fmt.Errorf("never came: %s", condition)
	}
	const button = `const b = [...document.querySelectorAll("button")].find(b => b.innerText === arguments[0]);
if (b && arguments[1]) b.click(); return !!b`
	if err := shown(button, "Reach in", true); err != nil {
		return err
	}
	if err := shown(button, "Let go", false); err != nil {
		return err
	}
	if err := shown(`return !!document.querySelector("main img")?.naturalWidth`); err != nil {
		return err
	}
	var to struct{ X, Y int }
	if err := s.Execute(ctx, `const r = document.querySelector("main img").getBoundingClientRect();
		return {X: Math.round(r.x + r.width * arguments[0]), Y: Math.round(r.y + r.height * arguments[1])}`, &to, at.X, at.Y); err != nil {
		return err
	}
	type action = map[string]any
	if err := s.Perform(ctx, webdriver.Action{Type: "pointer", ID: "mouse", Actions: []action{
		{"type": "pointerMove", "x": to.X, "y": to.Y}, {"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}}}); err != nil {
		return err
	}
	commands := func(n int) error {
		return shown(`return document.querySelector("main").innerText.split("Perform Actions").length > arguments[0]`, n)
	}
	if err := commands(1); err != nil {
		return err
	}
	for i, text := range []string{"Grey Osprey", "\ue004", "7"} {
		var keys []action
		for _, r := range text {
			keys = append(keys, action{"type": "keyDown", "value": string(r)}, action{"type": "keyUp", "value": string(r)})
		}
		if err := s.Perform(ctx, webdriver.Action{Type: "key", ID: "keys", Actions: keys}); err != nil {
			return err
		}
		if err := commands(i + 2); err != nil {
			return err
		}
	}
	time.Sleep(2 * time.Second) // the picture of the last one comes
	png, err := s.Screenshot(ctx)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, "reach-in.png"), png, 0o644)
}

// bearer is a token that goes with every request.
type bearer string

func (b bearer) RoundTrip(req *http.Request) (*http.Response, error) {
	req = req.Clone(req.Context())
	req.Header.Set("Authorization", "Bearer "+string(b))
	return http.DefaultTransport.RoundTrip(req)
}

// browse takes the console's pages.
func browse(ctx context.Context, dir, pane, out, only string, pages map[string]string) error {
	s, base, err := console(ctx, dir, pane, "dark")
	if err != nil {
		return err
	}
	defer s.Close()
	for name, path := range pages {
		file := name + ".png"
		if !strings.Contains(file, only) {
			continue
		}
		if !strings.HasPrefix(path, "http://") {
			path = base + path
		}
		if err := s.Navigate(ctx, path); err != nil {
			return err
		}
		if err := loaded(ctx, s.Session); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		png, err := s.Screenshot(ctx)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(out, file), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// loaded waits until the page shows data and all its pictures, and stays so for
// a while.
func loaded(ctx context.Context, s *webdriver.Session) error {
	settled := 0
	for range 400 {
		var ok bool
		if err := s.Execute(ctx, `const page = document.querySelector("main") ?? document.body;
			return !!page.querySelector("h1, h2, [role=alert]") && !page.innerText.includes("Loading …") &&
			![...document.images].some(i => !i.complete)`, &ok); err != nil {
			return err
		}
		if !ok {
			settled = 0
		} else if settled++; settled == 12 {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("the page shows nothing")
}

// terminal runs a command in a terminal window on a virtual display and takes
// its picture once the command has ended.
func terminal(ctx context.Context, file, command string) error {
	d, err := process.StartDisplay(ctx, process.Start, 1280, 800)
	if err != nil {
		return err
	}
	defer d.Stop(0)
	done := filepath.Join(os.TempDir(), "shots-"+strconv.Itoa(os.Getpid()))
	defer os.Remove(done)
	shown := strings.ReplaceAll(command, filepath.Dir(strings.Fields(command)[0])+"/", "")
	script := fmt.Sprintf("printf '$ %s\\n'; %s; touch %s; sleep 60", shown, command, done)
	x, err := process.Start(process.Command{Path: "xterm",
		Env: append(os.Environ(), "DISPLAY="+d.Name, "COLORTERM=truecolor", "CLICOLOR_FORCE=1"),
		Args: []string{"-tn", "xterm-256color", "-geometry", "178x60+0+0", "-fa", "DejaVu Sans Mono", "-fs", "9",
			"-bg", "#0d171c", "-fg", "#e6eef0", "-bw", "0", "-T", "pane", "-e", "bash", "-c", script}})
	if err != nil {
		return fmt.Errorf("%w (Debian package xterm)", err)
	}
	defer x.Stop(0)
	for range 6000 {
		if _, err := os.Stat(done); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	time.Sleep(500 * time.Millisecond) // the terminal draws
	grab := exec.CommandContext(ctx, "ffmpeg", "-y", "-loglevel", "error", "-f", "x11grab", "-draw_mouse", "0", "-video_size", "1280x800",
		"-i", d.Name, "-frames:v", "1", "-update", "1", file)
	if msg, err := grab.CombinedOutput(); err != nil {
		return fmt.Errorf("ffmpeg: %w: %s", err, msg)
	}
	return nil
}
