package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"runtime"
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/sessions"
	"parallelpane/internal/sessions/door"
	"parallelpane/internal/webdriver"
)

// tried is a browser that a script is tried on, here or in the lab.
type tried struct {
	*webdriver.Session
	name, version string
	emulated      device.Outcome
	lab           webdrive.Lab
	close         func(v verdict.Verdict, message string)
}

// openHere opens a browser of this machine.
func (r *root) openHere(ctx context.Context, o tryOptions, profile device.Profile) (*tried, error) {
	host, done, err := localHost()
	if err != nil {
		return nil, err
	}
	b, err := o.find(host.Found(ctx).Browsers)
	if err != nil {
		done()
		return nil, err
	}
	display := ""
	if o.headed {
		if display = os.Getenv("DISPLAY"); display == "" && runtime.GOOS == "linux" {
			fmt.Fprintln(r.err, "There is no screen here (DISPLAY is not set): the window opens on a virtual one.")
		}
	}
	host.Bare = display != "" // a person's own screen is no part of a sandbox
	s, err := host.Open(ctx, sessions.Request{Browser: b, Headed: o.headed, Device: profile, Display: display})
	if err != nil {
		done()
		return nil, &exitError{verdict.ExitLab, err}
	}
	return &tried{s.Session, b.Name, b.Version, s.Outcome, s, func(verdict.Verdict, string) {
		s.Close()
		done()
	}}, nil
}

// away is a session that the lab opened somewhere.
type away struct{ *webdriver.Session }

// Gone says that the session does not answer any more.
func (a away) Gone(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if _, err := a.Windows(ctx); err != nil && (webdriver.SessionLost(err) || ctx.Err() != nil) {
		return fmt.Errorf("the session stopped answering: %w", err)
	}
	return nil
}

// Give leaves a file where it is, which is of use when the session is on this
// machine, without a sandbox.
func (a away) Give(file string) (string, error) { return file, nil }

// Saved cannot be known from here.
func (a away) Saved(context.Context) ([]string, error) {
	return nil, errors.New("what a session saves that was opened elsewhere cannot be seen: leave --at out")
}

// Shape changes nothing: the way of somebody else's session cannot be seen from here.
func (a away) Shape(traffic.Shape) error {
	return errors.New("the network of a session that was opened elsewhere cannot be changed: leave --at out")
}

// Reach tries from here.
func (a away) Reach(ctx context.Context, address string) error {
	return door.Try(ctx, http.DefaultTransport, address)
}

// withToken sends the client's token along.
type withToken struct {
	token string
	next  http.RoundTripper
}

func (w withToken) RoundTrip(req *http.Request) (*http.Response, error) {
	req.Header.Set("Authorization", "Bearer "+w.token)
	return w.next.RoundTrip(req)
}

// openInLab opens a session in the lab, like any other runner.
func (r *root) openInLab(ctx context.Context, o tryOptions, test string, profile device.Profile) (*tried, error) {
	c, err := r.client()
	if err != nil {
		return nil, err
	}
	options := map[string]any{"test": test, "run": "tries", "idleLimit": 600}
	if o.device != "" {
		if _, err := device.Find(profile.Name); err != nil {
			return nil, usage("--device: %v: the lab knows those of pane devices, not the project's own", err)
		}
		options["device"] = profile.Name
	}
	if o.headed {
		options["mode"] = "headed"
	}
	caps := webdriver.Capabilities{remote.OptionsKey: options, "unhandledPromptBehavior": "ignore", "acceptInsecureCerts": true}
	if o.browser != "" {
		caps["browserName"] = o.browser
	}
	if o.version != "" {
		caps["browserVersion"] = o.version
	}
	s, err := webdriver.NewClient(c.Base+"/webdriver", &http.Client{Transport: withToken{c.Token, c.HTTP.Transport}}).New(ctx, caps)
	if code := webdriver.CodeOf(err); code == webdriver.InvalidArgument {
		return nil, usage("%v", err)
	}
	if err != nil {
		return nil, &exitError{verdict.ExitLab, err}
	}
	version, _ := s.Capabilities["browserVersion"].(string)
	name, _ := s.Capabilities["browserName"].(string)
	if o.browser != "" {
		name = o.browser
	}
	return &tried{s, name, version, device.Outcome{}, away{s}, func(v verdict.Verdict, message string) {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		var err error
		if v == verdict.Passed || v == verdict.Failed {
			err = s.Do(ctx, http.MethodPost, "/pane/verdict", map[string]string{"verdict": string(v), "message": message}, nil)
		}
		if err = errors.Join(err, s.Close(ctx)); err != nil {
			fmt.Fprintln(r.err, "the session ends by itself:", err)
		}
		fmt.Fprintf(r.err, "%s/sessions/%s\n", c.Base, s.ID)
	}}, nil
}
