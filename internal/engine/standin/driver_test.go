package standin_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/safari"
	"parallelpane/internal/engine/standin"
	"parallelpane/internal/webdriver"
)

// TestMain is a stand-in driver where it is called as one: KIND VERSION TROUBLES SWITCH…
func TestMain(m *testing.M) {
	if os.Getenv("PANE_BE_A_DRIVER") == "" {
		os.Exit(m.Run())
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	d := standin.Driver{Kind: os.Args[1], Version: os.Args[2]}
	for trouble := range strings.SplitSeq(os.Args[3], ",") {
		name, value, _ := strings.Cut(trouble, "=")
		switch name {
		case "slow":
			d.Slow, _ = time.ParseDuration(value)
		case "taken":
			d.Taken = value
		case "opens":
			d.Opens = value
		case "forbidden":
			d.Forbidden = true
		}
	}
	if err := d.Run(ctx, os.Args[4:], os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// driver is the program of a stand-in driver.
func driver(t *testing.T, kind, version, troubles string) string {
	t.Helper()
	exe, err := os.Executable()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), kind)
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "#!/bin/sh\nPANE_BE_A_DRIVER=1 exec '%s' %s %s '%s' \"$@\"\n", exe, kind, version,
		troubles), 0o755))
	return file
}

// Browsers that cannot be installed here, each by the family that opens it, through a
// driver that stands in for its own and is in trouble now and then.
func TestConformanceOfWhatCannotBeInstalled(t *testing.T) {
	for name, c := range map[string]struct {
		family        engine.Family
		browser, kind string
		troubles      func(dir string) string
	}{
		"chrome":                   {chromium.Family{}, "chrome", "chromedriver", nil},
		"edge, slow":               {chromium.Family{}, "edge", "msedgedriver", func(string) string { return "slow=700ms" }},
		"opera, its port is taken": {chromium.Family{}, "opera", "operadriver", func(dir string) string { return "taken=" + dir + "/taken" }},
		"firefox through a driver": {gecko.Family{}, "firefox", "geckodriver", nil},
		"safari, slow":             {safari.Family{}, "safari", "safaridriver", func(string) string { return "slow=700ms" }},
		"safari, its port is taken": {safari.Family{}, "safari", "safaridriver", func(dir string) string {
			return "taken=" + dir + "/taken"
		}},
	} {
		t.Run(name, func(t *testing.T) {
			troubles := ""
			if c.troubles != nil {
				troubles = c.troubles(t.TempDir())
			}
			b := fleet.Browser{Name: c.browser, Engine: c.family.Name(), Version: "150.0.1", Path: "/stand-in/" + c.browser,
				Driver: driver(t, c.kind, "150.0.1", troubles), Fits: true}
			conformance.Run(t, c.family, conformance.Kit{Browser: &b})
		})
	}
}

func TestADriversOwnWords(t *testing.T) {
	for kind, want := range map[string]string{"chromedriver": "ChromeDriver 150.0.1 (stand-in)",
		"msedgedriver": "Microsoft Edge WebDriver 150.0.1",
		"safaridriver": "Included with Safari 150.0.1", "geckodriver": "geckodriver 150.0.1"} {
		out, err := exec.Command(driver(t, kind, "150.0.1", ""), "--version").Output()
		require.NoError(t, err)
		assert.Contains(t, string(out), want)
	}
	var out bytes.Buffer
	assert.ErrorContains(t, standin.Driver{Kind: "toaster"}.Run(t.Context(), nil, &out),
		"no driver that can be simulated: one of chromedriver")
	assert.ErrorContains(t, standin.Driver{Kind: "chromedriver"}.Run(t.Context(), []string{"--port=x"}, &out), "expected a number")
}

func open(t *testing.T, f engine.Family, b fleet.Browser, asked webdriver.Capabilities, limit time.Duration) (*engine.Instance,
	*webdriver.Session, error) {
	profile, err := device.Find("")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	inst, err := f.Launch(ctx, engine.Options{Browser: b, Device: profile, Dir: t.TempDir(), Asked: asked})
	if err != nil {
		return nil, nil, err
	}
	t.Cleanup(inst.Close)
	s, err := webdriver.NewClient(inst.URL, nil).New(ctx, inst.Caps)
	return inst, s, err
}

// Safari opens one session at a time: a second one waits until the first has ended.
func TestSafariTakesTurns(t *testing.T) {
	b := fleet.Browser{Name: "safari", Engine: "webkit", Version: "26.1", Path: "/Applications/Safari.app", Driver: driver(t,
		"safaridriver", "26.1", "")}
	first, _, err := open(t, safari.Family{}, b, nil, time.Minute)
	require.NoError(t, err)
	_, _, err = open(t, safari.Family{}, b, nil, 50*time.Millisecond)
	assert.ErrorContains(t, err, "another session has Safari, which opens one at a time")
	second := make(chan error, 1)
	go func() {
		_, _, err := open(t, safari.Family{}, b, nil, time.Minute)
		second <- err
	}()
	first.Close()
	require.NoError(t, <-second)
}

func TestWhatSessionsMayNotAskOfSafari(t *testing.T) {
	b := fleet.Browser{Name: "safari", Driver: driver(t, "safaridriver", "26.1", "")}
	_, _, err := open(t, safari.Family{}, b, webdriver.Capabilities{"safari:diagnose": true}, time.Minute)
	var refused *engine.Refused
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Why, "it writes to a path")
	inst, s, err := open(t, safari.Family{}, b, webdriver.Capabilities{"webkit:WebRTC": map[string]any{}}, time.Minute)
	require.NoError(t, err)
	assert.NotEmpty(t, s.ID)
	inst.Close()
	b.Driver = driver(t, "safaridriver", "26.1", "forbidden")
	_, _, err = open(t, safari.Family{}, b, nil, time.Minute)
	assert.ErrorContains(t, err, "remote automation")
}
