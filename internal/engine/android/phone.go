// Package android opens Chrome on phones that hang on this machine, through the server of
// the Android Debug Bridge and chromedriver. The phone stays what it is: nothing of it is
// emulated. What its browser asks of the network comes through this machine.
package android

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"parallelpane/internal/adb"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
)

// Phone is one phone, from when it is plugged in until it is pulled out.
type Phone struct {
	Server adb.Server
	Serial string

	left chan struct{}
	once sync.Once
	why  error
}

// Plugged is a phone that has just come.
func Plugged(s adb.Server, serial string) *Phone {
	return &Phone{Server: s, Serial: serial, left: make(chan struct{})}
}

// Pulled tells whoever works with the phone that it is gone, and why.
func (p *Phone) Pulled(why error) {
	p.once.Do(func() {
		p.why = why
		close(p.left)
	})
}

// Left is closed once the phone is gone.
func (p *Phone) Left() <-chan struct{} { return p.left }

// Gone says why the phone is gone; nil while it is there.
func (p *Phone) Gone() error {
	select {
	case <-p.left:
		return p.why
	default:
		return nil
	}
}

// packages are the browsers that chromedriver opens on a phone.
var packages = []struct{ id, name, channel string }{
	{"com.android.chrome", "chrome", "stable"},
	{"com.chrome.beta", "chrome", "beta"},
	{"com.chrome.dev", "chrome", "dev"},
	{"com.chrome.canary", "chrome", "canary"},
	{"org.chromium.chrome", "chromium", ""},
}

// StandInMaker is the maker that phones of a stand-in name.
const StandInMaker = "Parallel Pane stand-in"

// Look reads what the phone is, and its browsers with the driver of this machine that
// serves each. A phone that is locked offers none.
func (p *Phone) Look(ctx context.Context, drivers []fleet.Driver) (m fleet.Machine, err error) {
	props, err := p.properties(ctx)
	if err != nil {
		return m, err
	}
	m = fleet.Machine{OS: fleet.Android, OSVersion: "Android " + cmp.Or(props["ro.build.version.release"], "?"),
		Arch: props["ro.product.cpu.abi"], Model: word(props["ro.product.model"]), Slots: 1, Headed: true,
		StandIn: props["ro.product.manufacturer"] == StandInMaker}
	if m.Screen, err = p.screen(ctx); err != nil {
		return m, err
	}
	if m.Cores, err = p.number(ctx, `(\d+)`, "nproc"); err != nil {
		return m, err
	}
	kilobytes, err := p.number(ctx, `MemTotal:\s+(\d+) kB`, "cat", "/proc/meminfo")
	if err != nil {
		return m, err
	}
	m.MemoryMB = kilobytes >> 10
	if m.Browsers, err = p.browsers(ctx); err != nil {
		return m, err
	}
	locked, err := p.locked(ctx)
	if err != nil {
		return m, err
	}
	for i := range m.Browsers {
		if locked {
			m.Browsers[i].Problem, m.Browsers[i].Remedy = "the phone is locked", unlock
		}
	}
	m.Browsers, _ = fleet.Pair(m.Browsers, drivers) // the drivers are the machine's, and told with it
	return m, nil
}

const unlock = "unlock it, and switch its screen lock off for as long as it serves the lab"

// word makes one word of what a phone calls itself, such as Quay-7.
func word(s string) string { return strings.Trim(noWord.ReplaceAllString(s, "-"), "-") }

var noWord = regexp.MustCompile(`[^a-zA-Z0-9._]+`)

var property = regexp.MustCompile(`(?m)^\[([^\]]+)\]: \[([^\]]*)\]`)

func (p *Phone) properties(ctx context.Context) (map[string]string, error) {
	text, err := p.Server.Shell(ctx, p.Serial, "getprop")
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, m := range property.FindAllStringSubmatch(text, -1) {
		out[m[1]] = m[2]
	}
	return out, nil
}

// number is the first number that a program of the phone prints after a pattern; 0 when
// there is none.
func (p *Phone) number(ctx context.Context, pattern string, args ...string) (int, error) {
	text, err := p.Server.Shell(ctx, p.Serial, args...)
	if refused := (*adb.Refused)(nil); err != nil && !errors.As(err, &refused) {
		return 0, err
	}
	return numberIn(pattern, text), nil
}

func numberIn(pattern, text string) int {
	if found := regexp.MustCompile(pattern).FindStringSubmatch(text); found != nil {
		n, _ := strconv.Atoi(found[1])
		return n
	}
	return 0
}

// screen is the size of the phone's screen in CSS pixels, such as 412x915: what wm says,
// where an owner's setting overrides the maker's.
func (p *Phone) screen(ctx context.Context) (string, error) {
	size, err := p.Server.Shell(ctx, p.Serial, "wm", "size")
	if err != nil {
		return "", err
	}
	density, err := p.Server.Shell(ctx, p.Serial, "wm", "density")
	if err != nil {
		return "", err
	}
	last := func(pattern, text string) (found []string) {
		if all := regexp.MustCompile(pattern).FindAllStringSubmatch(text, -1); len(all) > 0 {
			found = all[len(all)-1]
		}
		return found
	}
	pixels, dots := last(`size: (\d{2,5})x(\d{2,5})`, size), last(`density: (\d{2,4})`, density)
	if pixels == nil || dots == nil {
		return "", nil
	}
	w, _ := strconv.Atoi(pixels[1])
	h, _ := strconv.Atoi(pixels[2])
	dpi, _ := strconv.Atoi(dots[1])
	return device.Size{Width: (w*160 + dpi/2) / dpi, Height: (h*160 + dpi/2) / dpi}.String(), nil // 160 dots an inch are one to a CSS pixel
}

func (p *Phone) browsers(ctx context.Context) (out []fleet.Browser, err error) {
	text, err := p.Server.Shell(ctx, p.Serial, "pm", "list", "packages")
	if err != nil {
		return nil, err
	}
	for _, known := range packages {
		if !strings.Contains(text+"\n", "package:"+known.id+"\n") {
			continue
		}
		about, err := p.Server.Shell(ctx, p.Serial, "dumpsys", "package", known.id)
		if err != nil {
			return nil, err
		}
		b := fleet.Browser{Name: known.name, Engine: "chromium", Channel: known.channel, From: fleet.Phone, Path: known.id}
		if found := versionName.FindStringSubmatch(about); found != nil {
			b.Version = found[1]
		} else {
			b.Problem, b.Remedy = "its version cannot be read", "install it anew on the phone"
		}
		out = append(out, b)
	}
	return out, nil
}

var versionName = regexp.MustCompile(`versionName=(\d+(?:\.\d+){0,3})`)

// locked says whether a lock that needs a person is on the screen: what the window
// manager says of its keyguard.
func (p *Phone) locked(ctx context.Context) (bool, error) {
	text, err := p.Server.Shell(ctx, p.Serial, "dumpsys", "window", "policy")
	if err != nil {
		return false, err
	}
	return showing.MatchString(text) && secure.MatchString(text), nil
}

var (
	showing = regexp.MustCompile(`(?m)^\s*showing=true`)
	secure  = regexp.MustCompile(`(?m)^\s*secure=true`)
)

// wake switches the screen on, wipes away a lock that asks for nothing, and has the
// screen stay on while the phone hangs on a cable.
func (p *Phone) wake(ctx context.Context) error {
	for _, args := range [][]string{
		{"input", "keyevent", "KEYCODE_WAKEUP"},
		{"wm", "dismiss-keyguard"},
		{"svc", "power", "stayon", "true"},
	} {
		if _, err := p.Server.Shell(ctx, p.Serial, args...); err != nil {
			return fmt.Errorf("switch the phone's screen on: %w", err)
		}
	}
	locked, err := p.locked(ctx)
	if err == nil && locked {
		err = errors.New("the phone is locked: " + unlock)
	}
	return err
}
