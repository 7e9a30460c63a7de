// Package gecko opens Firefox without a driver: the browser serves the classic
// command set on its own remote port (Marionette), and this package answers
// W3C WebDriver over HTTP by passing each command on, one to one.
package gecko

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/webdriver"
)

// Family is the Gecko family.
type Family struct {
	// Cache is a directory for the part of a profile that the browser makes from
	// its own program at its first start. With it, starts take about half the
	// time; "" does without.
	Cache string
}

// Name is the engine's name.
func (Family) Name() string { return "gecko" }

// prefs are on top of those the browser itself sets while it is remotely
// controlled: nothing may reach for the network or ask the user anything.
var prefs = map[string]any{
	"marionette.port":                                   0,
	"app.update.enabled":                                false,
	"browser.aboutConfig.showWarning":                   false,
	"browser.shell.checkDefaultBrowser":                 false,
	"browser.startup.page":                              0,
	"browser.startup.homepage_override.mstone":          "ignore",
	"datareporting.policy.dataSubmissionEnabled":        false,
	"toolkit.telemetry.enabled":                         false,
	"network.captive-portal-service.enabled":            false,
	"network.connectivity-service.enabled":              false,
	"network.dns.disablePrefetch":                       true,
	"network.prefetch-next":                             false,
	"extensions.getAddons.cache.enabled":                false,
	"extensions.systemAddon.update.enabled":             false,
	"services.settings.server":                          "data:,",
	"browser.safebrowsing.malware.enabled":              false,
	"browser.safebrowsing.phishing.enabled":             false,
	"browser.newtabpage.activity-stream.feeds.topsites": false,
	"signon.rememberSignons":                            false,
	"toolkit.startup.max_resumed_crashes":               -1,
	"browser.tabs.warnOnClose":                          false,
}

// writePrefs writes the preferences of a profile, the last of one name counting:
// the lab's own, those of a profile that was brought along, those asked for, the port,
// and where downloads go.
func writePrefs(dir string, asked map[string]any, saved, door string, allow engine.Names) error {
	theirs, err := theirPrefs(dir, allow)
	if err != nil {
		return err
	}
	var b strings.Builder
	write := func(all map[string]any) {
		for _, name := range slices.Sorted(maps.Keys(all)) {
			key, _ := json.Marshal(name)
			value, _ := json.Marshal(all[name]) // strings, whole numbers and truth values
			fmt.Fprintf(&b, "user_pref(%s, %s);\n", key, value)
		}
	}
	write(prefs)
	for _, line := range theirs {
		b.WriteString(line + "\n")
	}
	write(asked)
	last := saving(saved)
	last["marionette.port"] = 0
	write(last)
	leads, err := through(door)
	if err != nil {
		return err
	}
	write(leads)
	return os.WriteFile(filepath.Join(dir, "user.js"), []byte(b.String()), 0o600)
}

// wished are the preferences by which Firefox tells pages what its owner prefers.
var wished = map[string]map[string]any{
	"scheme dark":    {"layout.css.prefers-color-scheme.content-override": 0},
	"scheme light":   {"layout.css.prefers-color-scheme.content-override": 1},
	"motion reduced": {"ui.prefersReducedMotion": 1}, "motion full": {"ui.prefersReducedMotion": 0},
	"contrast usual": {}, "colours own": {},
}

// preferring adds to preferences what a device's owner prefers, and notes with the
// instance what of it there is.
func preferring(d device.Profile, asked map[string]any, inst *engine.Instance) map[string]any {
	out := maps.Clone(asked)
	for _, w := range d.Wishes() {
		all, known := wished[w.String()]
		if !known {
			inst.Outcome.Apply(w.String(), engine.ErrNoCommand)
			continue
		}
		if out == nil {
			out = map[string]any{}
		}
		maps.Copy(out, all)
		inst.Outcome.Apply(w.String(), nil)
	}
	return out
}

// saving are the preferences that have downloads go into a directory.
func saving(dir string) map[string]any {
	return map[string]any{"browser.download.folderList": 2, "browser.download.dir": dir, "browser.download.useDownloadDir": true}
}

// through are the preferences that lead every request through a proxy at
// host:port, those to loopback as well.
func through(door string) (map[string]any, error) {
	if door == "" {
		return nil, nil
	}
	host, text, err := net.SplitHostPort(door)
	if err != nil {
		return nil, err
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		return nil, err
	}
	return map[string]any{
		"network.proxy.type": 1, "network.proxy.http": host, "network.proxy.http_port": port, "network.proxy.ssl": host,
		"network.proxy.ssl_port": port, "network.proxy.socks": "", "network.proxy.no_proxies_on": "",
		"network.proxy.allow_hijacking_localhost": true, "network.proxy.failover_direct": false,
	}, nil
}

// warm are the files of a profile that hold nothing of a session: the compiled
// scripts of the browser's own windows and the list of its built-in parts.
var warm = []string{"startupCache", "addonStartup.json.lz4", "extensions.json", "compatibility.ini", "prefs.js"}

func (f Family) warmDir(b fleet.Browser) string {
	return filepath.Join(f.Cache, "firefox-"+b.Version)
}

// Prepare starts the browser once with an empty profile, quits it, and keeps
// what it has made of its own program for later starts.
func (f Family) Prepare(ctx context.Context, o engine.Options) error {
	to := f.warmDir(o.Browser)
	if _, err := os.Stat(to); f.Cache == "" || err == nil || byDriver(o.Browser) {
		return nil
	}
	inst := engine.NewInstance(&o)
	defer inst.Close()
	m, err := Family{}.start(ctx, inst, o)
	if err != nil {
		return err
	}
	defer m.Close()
	if _, err := m.call(ctx, "WebDriver:NewSession", struct{}{}); err != nil {
		return fmt.Errorf("prepare firefox: %w", err)
	}
	// The browser writes its caches when it quits; it may not live to answer.
	if _, err := m.call(ctx, "Marionette:Quit", map[string]any{"flags": []string{"eAttemptQuit"}}); err != nil &&
		!errors.Is(err, errBrowserGone) {
		return fmt.Errorf("prepare firefox: %w", err)
	}
	if err := inst.Wait(ctx, 30*time.Second); err != nil {
		return fmt.Errorf("prepare firefox: %w", err)
	}
	tmp := to + ".new"
	if err := errors.Join(os.RemoveAll(tmp), copyWarm(filepath.Join(o.Dir, "profile"), tmp), os.Rename(tmp, to)); err != nil {
		return fmt.Errorf("prepare firefox: %w", err)
	}
	return nil
}

// copyWarm copies what there is of the warm files.
func copyWarm(from, to string) error {
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	for _, name := range warm {
		src, dst := filepath.Join(from, name), filepath.Join(to, name)
		info, err := os.Stat(src)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return err
		case info.IsDir():
			err = os.CopyFS(dst, os.DirFS(src))
		default:
			var raw []byte
			if raw, err = os.ReadFile(src); err == nil {
				err = os.WriteFile(dst, raw, 0o600)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// asked is what a session asks of the browser before it starts. Nothing of it
// is left for the New Session command.
type asked struct {
	args    []string
	left    []string // switches that the agent decides
	prefs   map[string]any
	profile *zip.Reader // nil for an empty one
}

func askedOf(caps webdriver.Capabilities, allow engine.Names) (asked, error) {
	var a asked
	options, err := vendor.Of(caps, allow)
	if err != nil {
		return a, err
	}
	if a.args, a.left, err = vendor.Arguments(options, true, allow); err != nil {
		return a, err
	}
	if raw, there := options["prefs"]; there {
		prefs, ok := raw.(map[string]any)
		if !ok {
			return a, &engine.Refused{Why: vendor.Key + ": prefs: expected an object"}
		}
		for name, v := range prefs {
			switch n := v.(type) {
			case string, bool:
			case float64:
				if n == math.Trunc(n) && math.Abs(n) < 1<<31 {
					continue
				}
				return a, &engine.Refused{Why: fmt.Sprintf("%s: prefs: %s: expected a whole number", vendor.Key, name)}
			default:
				return a, &engine.Refused{Why: fmt.Sprintf("%s: prefs: %s: expected a string, a whole number, true or false", vendor.Key, name)}
			}
		}
		if err := vendor.Preferences(prefs, allow); err != nil {
			return a, err
		}
		a.prefs = prefs
	}
	if raw, there := options["profile"]; there {
		if a.profile, err = readProfile(raw); err != nil {
			return a, err
		}
	}
	return a, nil
}

// start starts the browser with a profile of its own and connects to it.
func (f Family) start(ctx context.Context, inst *engine.Instance, o engine.Options) (*marionette, error) {
	profile := filepath.Join(o.Dir, "profile")
	if err := os.MkdirAll(profile, 0o700); err != nil {
		return nil, fmt.Errorf("launch firefox: %w", err)
	}
	asked, err := askedOf(o.Asked, o.Allow)
	if err != nil {
		return nil, err
	}
	inst.Left = asked.left
	if asked.profile != nil {
		if err := unpack(asked.profile, profile); err != nil {
			return nil, fmt.Errorf("launch firefox: %w", err)
		}
	} else if f.Cache != "" {
		if _, err := os.Stat(f.warmDir(o.Browser)); err == nil {
			if err := copyWarm(f.warmDir(o.Browser), profile); err != nil {
				return nil, fmt.Errorf("launch firefox: %w", err)
			}
		}
	}
	if err := writePrefs(profile, preferring(o.Device, asked.prefs, inst), o.Box.Inside(filepath.Join(o.Dir, engine.Downloads)), o.Door,
		o.Allow); err != nil {
		return nil, fmt.Errorf("launch firefox: %w", err)
	}
	args := []string{"--marionette", "--remote-debugging-port", "0", "--profile", o.Box.Inside(profile), "--no-remote", "--new-instance",
		"--width", strconv.Itoa(o.Device.Size.Width), "--height", strconv.Itoa(o.Device.Size.Height + 85)}
	env := []string{"MOZ_CRASHREPORTER_DISABLE=1", "MOZ_DISABLE_AUTO_SAFE_MODE=1"}
	if o.Headed {
		if runtime.GOOS == "linux" {
			if err := inst.NeedDisplay(ctx, &o, max(1920, o.Device.Size.Width), max(1200, o.Device.Size.Height+200)); err != nil {
				return nil, err
			}
			env = append(env, "DISPLAY="+o.Display)
		}
	} else {
		args = append(args, "--headless")
	}
	args = append(args, asked.args...)
	p, err := o.Box.Start(process.Command{Log: o.Log, Env: env, Path: o.Browser.Path, Args: args})
	if err != nil {
		return nil, err
	}
	inst.Own(p)
	ready, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	return connect(ready, inst, p, filepath.Join(profile, "MarionetteActivePort"))
}

// Launch starts the browser and a remote end in this process that serves one
// session on it.
func (f Family) Launch(ctx context.Context, o engine.Options) (*engine.Instance, error) {
	inst := engine.NewInstance(&o)
	if byDriver(o.Browser) {
		if err := launchByDriver(ctx, inst, o); err != nil {
			inst.Close()
			return nil, err
		}
		return inst, nil
	}
	m, err := f.start(ctx, inst, o)
	if err != nil {
		inst.Close()
		return nil, err
	}
	l, err := o.Box.Listen()
	if err != nil {
		m.Close()
		inst.Close()
		return nil, fmt.Errorf("launch firefox: %w", err)
	}
	srv := &http.Server{Handler: newRemoteEnd(m, o.Browser.Version), ReadHeaderTimeout: 10 * time.Second}
	served := make(chan struct{})
	go func() {
		defer close(served)
		_ = srv.Serve(l)
	}()
	inst.Cleanup(func() {
		_ = srv.Close()
		<-served
		m.Close()
	})
	inst.URL = "http://" + l.Addr().String()
	inst.BiDi = true
	inst.Caps = vendor.Asking(o, nil, true)
	return inst, nil
}

// connect waits for the port file, which the browser writes once it listens.
func connect(ctx context.Context, inst *engine.Instance, p *process.Process, file string) (*marionette, error) {
	for {
		if raw, err := os.ReadFile(file); err == nil && len(raw) > 0 {
			return dialMarionette(ctx, inst.Dial, "127.0.0.1:"+strings.TrimSpace(string(raw)))
		}
		select {
		case <-p.Done():
			return nil, p.Gone()
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return nil, errors.New("firefox opened no remote port within 60 s")
			}
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}
