package android_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/adb"
	"parallelpane/internal/adb/standin"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/android"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/webdriver"
)

// lab is a stand-in's server and its first phone, with the browser that it offers.
func lab(t *testing.T) (*standin.Server, *android.Phone, fleet.Machine) {
	t.Helper()
	here := conformance.Browser(t, chromium.Family{})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := standin.New(here.Path, here.Version, t.TempDir(), standin.Phones...)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	p := android.Plugged(adb.Server(l.Addr().String()), standin.Phones[0].Serial)
	m, err := p.Look(t.Context(), []fleet.Driver{{Name: "chromedriver", Version: here.DriverVersion, Path: here.Driver}})
	require.NoError(t, err)
	return s, p, m
}

// The driver is the real one; the phone stands in, and its browser is this machine's.
func TestConformance(t *testing.T) {
	_, p, m := lab(t)
	require.Len(t, m.Browsers, 1)
	require.True(t, m.Browsers[0].Fits, m.Browsers[0].Problem)
	conformance.Run(t, android.Family{Phone: p}, conformance.Kit{Script: true, BiDi: true, Browser: &m.Browsers[0]})
}

func TestWhatAPhoneIs(t *testing.T) {
	s, p, m := lab(t)
	assert.Equal(t, "android", m.OS)
	assert.Equal(t, "Android 16", m.OSVersion)
	assert.Equal(t, "Quay-7", m.Model)
	assert.Equal(t, "411x914", m.Screen)
	assert.Equal(t, 8, m.Cores)
	assert.Equal(t, 7629, m.MemoryMB)
	assert.True(t, m.StandIn)
	assert.Equal(t, fleet.Phone, m.Browsers[0].From)

	s.Lock(p.Serial, true)
	m, err := p.Look(t.Context(), nil)
	require.NoError(t, err)
	assert.False(t, m.Browsers[0].Fits)
	assert.Equal(t, "the phone is locked", m.Browsers[0].Problem)
	assert.Contains(t, m.Browsers[0].Remedy, "unlock it")
	s.Lock(p.Serial, false)
	m, err = p.Look(t.Context(), []fleet.Driver{{Name: "chromedriver", Version: "99.0.1", Path: "/usr/bin/chromedriver"}})
	require.NoError(t, err)
	assert.Contains(t, m.Browsers[0].Problem, "chromedriver 99.0.1 does not fit chrome")
	assert.Contains(t, m.Browsers[0].Remedy, "pane browsers add the archive of a chromedriver")
}

func open(t *testing.T, p *android.Phone, m fleet.Machine, asked webdriver.Capabilities) (*engine.Instance, error) {
	inst, err := android.Family{Phone: p}.Launch(t.Context(), engine.Options{Browser: m.Browsers[0], Dir: t.TempDir(), Asked: asked})
	if err == nil {
		t.Cleanup(inst.Close)
	}
	return inst, err
}

// A phone that is pulled out in the middle ends its session with these words, not with
// those of a driver that does not know better; so does a server that goes.
func TestAPhoneThatIsPulledOut(t *testing.T) {
	s, p, m := lab(t)
	inst, err := open(t, p, m, nil)
	require.NoError(t, err)
	session, err := webdriver.NewClient(inst.URL, nil).New(t.Context(), inst.Caps)
	require.NoError(t, err)
	require.NoError(t, session.Navigate(t.Context(), "data:text/html,<title>Quay</title>"))
	s.Set(p.Serial, "")
	p.Pulled(os.ErrDeadlineExceeded)
	require.Error(t, session.Navigate(t.Context(), "about:blank"))
	require.ErrorIs(t, inst.Gone(), os.ErrDeadlineExceeded)
	_, err = open(t, p, m, nil)
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
}

func TestALockedPhoneOpensNothing(t *testing.T) {
	s, p, m := lab(t)
	s.Lock(p.Serial, true)
	_, err := open(t, p, m, nil)
	require.ErrorContains(t, err, "the phone is locked: unlock it")
}

func TestWhatSessionsMayNotAskOfAPhone(t *testing.T) {
	_, p, m := lab(t)
	for says, options := range map[string]map[string]any{
		"androidPackage cannot be had":          {"androidPackage": "com.android.settings"},
		"androidExecName cannot be had":         {"androidExecName": "x; reboot"},
		"prefs cannot be had on a phone":        {"prefs": map[string]any{"intl.accept_languages": "nb"}},
		"cannot be passed to a phone":           {"args": []any{"--lang=$(reboot)"}},
		"leave quotes":                          {"args": []any{"--lang=\"; reboot; \""}},
		"proxy-server=direct:// cannot be had":  {"args": []any{"--proxy-server=direct://"}},
		"user-data-dir=/data/x cannot be had":   {"args": []any{"--user-data-dir=/data/x"}},
		"androidDeviceSerial cannot be had her": {"androidDeviceSerial": standin.Phones[1].Serial},
	} {
		_, err := open(t, p, m, webdriver.Capabilities{"goog:chromeOptions": options})
		var refused *engine.Refused
		require.ErrorAs(t, err, &refused, says)
		assert.Contains(t, refused.Why, says)
	}
}

// What a driver may ask of the adb server is what it needs for one browser of one phone.
func TestTheGateOfADriver(t *testing.T) {
	s, p, _ := lab(t)
	end, port, err := android.NewGate(p, box.Open{Dir: t.TempDir()}, "com.android.chrome")
	require.NoError(t, err)
	t.Cleanup(end)
	gate := adb.Server(fmt.Sprintf("127.0.0.1:%d", port))
	ask := func(requests ...string) error {
		t.Helper()
		c, err := net.Dial("tcp", string(gate))
		require.NoError(t, err)
		defer c.Close()
		for _, r := range requests {
			require.NoError(t, adb.WriteText(c, r))
			var status [4]byte
			_, err := io.ReadFull(c, status[:])
			require.NoError(t, err)
			if string(status[:]) == "FAIL" {
				why, err := adb.ReadText(c)
				require.NoError(t, err)
				return errors.New(why)
			}
		}
		return nil
	}
	mine, other := "host:transport:"+p.Serial, standin.Phones[1].Serial
	for _, requests := range [][]string{
		{"host:version"}, {"host:devices"}, {mine, "shell:pm clear com.android.chrome"}, {mine, "shell:getprop ro.build.version.release"},
		{mine, `shell:echo "chrome --lang=nb" > /data/local/tmp/chrome-command-line; echo $?`}, {mine, "sync:"},
		{"host-serial:" + p.Serial + ":forward:tcp:0;localabstract:chrome_devtools_remote"},
	} {
		assert.NoError(t, ask(requests...), requests)
	}
	for _, requests := range [][]string{
		{"host:transport:" + other}, {"host:transport-any"}, {"host:kill"}, {"host:track-devices"}, {"host:connect:quay.example:5555"},
		{"host:devices-l"}, {mine, "shell:"}, {mine, "shell:reboot"}, {mine, "shell:pm clear com.android.settings"},
		{mine, "shell:pm clear com.android.chrome; reboot"}, {mine, "shell:am start -W -n com.android.chrome/x -d file:///sdcard"},
		{mine, "shell:am start -W -n com.android.settings/.Main"}, {mine, "reboot:"}, {mine, "root:"}, {mine, "remount:"}, {mine, "tcpip:5555"},
		{mine, "exec:cat /sdcard/x"}, {mine, "shell,v2:id"}, {mine, "tcp:22"}, {mine, "localabstract:adbd"}, {mine, "framebuffer:"},
		{mine, "shell:echo \"$(reboot)\" > /data/local/tmp/chrome-command-line; echo $?"},
		{mine, "shell:echo \"`reboot`\" > /data/local/tmp/chrome-command-line; echo $?"},
		{mine, `shell:echo "x" > /data/local/tmp/../x-command-line; echo $?`},
		{mine, "reverse:forward:tcp:0;tcp:22"},
		{"host-serial:" + p.Serial + ":forward:tcp:0;tcp:22"}, {"host-serial:" + p.Serial +
			":forward:tcp:9;localabstract:chrome_devtools_remote"},
		{"host-serial:" + p.Serial + ":forward:tcp:0;localfilesystem:/dev/socket/x"},
		{"host-serial:" + other + ":forward:tcp:0;localabstract:chrome_devtools_remote"},
		{"host-serial:" + p.Serial + ":killforward-all"}, {"host-serial:" + p.Serial + ":killforward:tcp:1"},
	} {
		assert.Error(t, ask(requests...), requests)
	}
	assert.ErrorContains(t, gate.Push(t.Context(), p.Serial, "/data/local/tmp/evil", strings.NewReader("x")), "write /data/local/tmp/evil")
	require.NoError(t, gate.Push(t.Context(), p.Serial, "/data/local/tmp/chrome-command-line", strings.NewReader("chrome --lang=nb")))
	s.Set(p.Serial, "")
	assert.ErrorContains(t, ask(mine, "shell:am force-stop com.android.chrome"), "not found")
}

// What is asked of a phone and cannot be had is said, also where no device is named.
func TestWhatAPhoneKeepsIsSaid(t *testing.T) {
	_, p, m := lab(t)
	plain, err := device.Find("")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		of      device.Profile
		values  map[string]string
		missing []string
	}{
		"nothing asked": {plain, nil, nil},
		"in hand":       {device.InHand("Quay-7", "411x914"), nil, nil},
		"a locale":      {plain, map[string]string{"locale": "nb-NO"}, []string{"locale nb-NO"}},
		"in hand, both": {device.InHand("Quay-7", "411x914"), map[string]string{"viewport": "800x600", "timezone": "Europe/Oslo"},
			[]string{"viewport 800×600", "time zone Europe/Oslo"}},
	} {
		profile, err := c.of.With(c.values)
		require.NoError(t, err)
		inst, err := android.Family{Phone: p}.Launch(t.Context(), engine.Options{Browser: m.Browsers[0], Device: profile, Dir: t.TempDir()})
		require.NoError(t, err)
		inst.Close()
		var missing []string
		for _, x := range inst.Outcome.Missing {
			missing = append(missing, x.Feature)
		}
		assert.Equal(t, c.missing, missing, name)
	}
}
