package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Driver is a simulated driver program, for engines that cannot be installed: it takes the
// switches of the real one, prints what that prints, and serves a stand-in browser.
type Driver struct {
	Kind    string // a name of core/fleet: chromedriver, msedgedriver, operadriver, safaridriver, geckodriver
	Version string
	// Slow is how long it takes until it listens.
	Slow time.Duration
	// Taken is a file: as long as it is not there, the driver makes it, says that its
	// port is taken, and ends.
	Taken string
	// Opens is the version that its sessions say the browser has; "" is Version.
	Opens string
	// Forbidden has it refuse every session, as Safari does that was never allowed.
	Forbidden bool
}

// kinds are what each real driver prints of itself, prints when it listens, and calls its
// browser.
var kinds = map[string]struct{ version, listening, browser string }{
	"chromedriver": {"ChromeDriver %s (stand-in)", "ChromeDriver was started successfully on port %d.", "chrome"},
	"msedgedriver": {"Microsoft Edge WebDriver %s (stand-in)", "Microsoft Edge WebDriver was started successfully on port %d.",
		"MicrosoftEdge"},
	"operadriver":  {"OperaDriver %s (stand-in)", "OperaDriver was started successfully on port %d.", "opera"},
	"safaridriver": {"Included with Safari %s (stand-in)", "", "Safari"},
	"geckodriver":  {"geckodriver %s (stand-in)", "stand-in geckodriver Listening on 127.0.0.1:%d", "firefox"},
}

// Kinds lists the drivers that can be simulated.
func Kinds() []string { return slices.Sorted(maps.Keys(kinds)) }

// Run is the program, with the switches that the real one would be given, until the
// context ends.
func (d Driver) Run(ctx context.Context, args []string, out io.Writer) error {
	k, known := kinds[d.Kind]
	if !known {
		return fmt.Errorf("%q is no driver that can be simulated: one of %s", d.Kind, strings.Join(Kinds(), ", "))
	}
	port := 0
	for i, a := range args {
		name, value, joined := strings.Cut(a, "=")
		if !joined && i+1 < len(args) {
			value = args[i+1]
		}
		switch name {
		case "--version":
			fmt.Fprintf(out, k.version+"\n", d.Version)
			return nil
		case "--port", "-p":
			var err error
			if port, err = strconv.Atoi(value); err != nil {
				return fmt.Errorf("--port: expected a number, found %q", value)
			}
		}
	}
	if d.Taken != "" {
		if _, err := os.Stat(d.Taken); err != nil {
			return errors.Join(errors.New("the port is taken: the stand-in was told so"), os.WriteFile(d.Taken, nil, 0o600))
		}
	}
	select {
	case <-time.After(d.Slow):
	case <-ctx.Done():
		return nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(port))
	if err != nil {
		return err
	}
	if k.listening != "" {
		fmt.Fprintf(out, k.listening+"\n", l.Addr().(*net.TCPAddr).Port)
	}
	version := d.Version
	if d.Opens != "" {
		version = d.Opens
	}
	r := &remote{o: settings{name: k.browser, version: version, platform: "linux",
		agent: "Mozilla/5.0 (stand-in) ParallelPane/1 " + k.browser +
			"/" + version, language: "en", width: 1280, height: 800, ratio: 1, lenient: true, forbidden: d.Forbidden}}
	srv := &http.Server{Handler: r, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { _ = srv.Close() })
	defer stop()
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
