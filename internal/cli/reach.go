package cli

import (
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"parallelpane/internal/certs"
	"parallelpane/internal/client"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/term"
)

// DefaultAddress is where a service listens unless told otherwise.
const DefaultAddress = "127.0.0.1:7420"

// client connects to the service named by the flags.
func (r *root) client() (*client.Client, error) {
	base, err := cleanBase(r.address)
	if err != nil {
		return nil, err
	}
	token, err := findToken(base, r.tokenFile, "admin.token")
	if err != nil {
		return nil, err
	}
	conf, err := r.trust(base)
	if err != nil {
		return nil, err
	}
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = conf
	c := &client.Client{Base: base, Token: token, HTTP: &http.Client{Transport: t}}
	if !r.json {
		c.Tame = term.TameAll
	}
	return c, nil
}

// trust is how a service is known to be the one that is meant: by the pin that was given
// or, on its own machine, by its certificate.
func (r *root) trust(base string) (*tls.Config, error) {
	pin := r.pin
	if dir, ok := readKnown()[base]; ok && pin == "" && strings.HasPrefix(base, "https://") {
		pin = certs.PinIn(dir)
	}
	conf, err := certs.Config(pin)
	if err != nil {
		return nil, usage("--pin: %v", err)
	}
	return conf, nil
}

// answered gives an error of the API its exit code and what to do next; others it
// leaves as they are.
func answered(err error) error {
	if _, coded := errors.AsType[*exitError](err); coded {
		return err
	}
	if _, away := errors.AsType[*client.Unreachable](err); away {
		return &exitError{verdict.ExitLab, fmt.Errorf("%w: start one with pane serve, or name another with --service or PANE_SERVICE", err)}
	}
	if e, ok := errors.AsType[*client.Error](err); ok && e.Status >= 500 {
		return &exitError{verdict.ExitLab, err}
	}
	return err
}

// known remembers, for each service started on this machine by this user, the
// data directory in which its first tokens lie.
type known map[string]string

func knownFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "parallel-pane", "services.json"), nil
}

func readKnown() known {
	k := known{}
	if file, err := knownFile(); err == nil {
		if raw, err := os.ReadFile(file); err == nil {
			_ = json.Unmarshal(raw, &k) // a file that cannot be read is as good as none
		}
	}
	return k
}

// remember notes where a service keeps its data.
func remember(base, dir string) error {
	file, err := knownFile()
	if err != nil {
		return err
	}
	k := readKnown()
	k[base] = dir
	raw, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	tmp := fmt.Sprintf("%s.%d", file, os.Getpid())
	if err := os.WriteFile(tmp, append(raw, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, file)
}

// findToken looks for a token: PANE_TOKEN, the file named by --token-file or
// PANE_TOKEN_FILE, or the first token of a service of this machine. Tokens are
// never arguments, which anybody on the machine could read.
func findToken(base, file, first string) (string, error) {
	if t := os.Getenv("PANE_TOKEN"); t != "" {
		return t, nil
	}
	if file == "" {
		file = os.Getenv("PANE_TOKEN_FILE")
	}
	if file == "" {
		if dir, ok := readKnown()[base]; ok {
			file = filepath.Join(dir, first)
		}
	}
	if file == "" {
		return "", usage("no token for %s: set PANE_TOKEN, or name a file that holds one with --token-file", base)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", usage("token file: %v", err)
	}
	return strings.TrimSpace(string(raw)), nil
}

// cleanBase makes an address of what a person types.
func cleanBase(s string) (string, error) {
	if !strings.Contains(s, "://") {
		s = "http://" + s
	}
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return "", usage("%q is not the address of a service: expected one such as http://127.0.0.1:7420", s)
	}
	return strings.TrimRight(s, "/"), nil
}
