package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/adb"
	"parallelpane/internal/adb/standin"
	"parallelpane/internal/agent"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine/android"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/term"
)

// withPhones adds the flag that has an agent offer the phones of its machine. "" of it
// leaves that to the settings.
func withPhones(cmd *cobra.Command, at *string) {
	cmd.PersistentFlags().StringVar(at, "phones", "",
		"also offer the phones that hang on this machine, by the adb server at HOST:PORT")
	cmd.PersistentFlags().Lookup("phones").NoOptDefVal = adb.Usual
}

// phonesAt is the adb server to ask for phones; "" asks none.
func phonesAt(flag string, s find.Settings) (adb.Server, error) {
	at, from := flag, "--phones"
	if at == "" {
		at, from = s.Phones, "phones"
	}
	if at == "" {
		return "", nil
	}
	if _, _, err := net.SplitHostPort(at); err != nil {
		return "", usage("%s: expected HOST:PORT such as %s, found %q", from, adb.Usual, at)
	}
	return adb.Server(at), nil
}

// hanging is a phone as agent check shows it.
type hanging struct {
	Name    string        `json:"name"` // as an agent, after that of this machine
	Serial  string        `json:"serial"`
	State   string        `json:"state"` // of the adb server: device is one that takes commands
	Remedy  string        `json:"remedy,omitempty"`
	Machine fleet.Machine `json:"machine"`
}

// phones lists the phones of a server, with what each is.
func phones(ctx context.Context, s adb.Server, drivers []fleet.Driver) (out []hanging, err error) {
	devices, err := s.Devices(ctx)
	for _, d := range devices {
		h := hanging{Serial: d.Serial, State: d.State}
		if d.State != adb.Ready {
			h.Remedy = agent.Unready(d.State)
		} else if h.Machine, err = android.Plugged(s, d.Serial).Look(ctx, drivers); err != nil {
			return nil, err
		}
		h.Name = agent.NameOf(h.Machine, d.Serial)
		out = append(out, h)
	}
	return out, err
}

// writePhones shows the phones of this machine and says how many browsers of them can be
// used.
func (r *root) writePhones(s adb.Server, all []hanging) (usable int) {
	if len(all) == 0 {
		fmt.Fprintf(r.out, "\nThe adb server at %s has no phone: plug one in that may be debugged over USB.\n", s)
		return 0
	}
	t := term.NewTable("phone", "system", "screen", "browser", "fits", "driver")
	for _, h := range all {
		m := h.Machine
		name := h.Name
		if m.StandIn {
			name += "\n" + term.Faint("stand-in")
		}
		for _, b := range m.Browsers {
			fits := term.Paint(verdict.Passed, "yes")
			if !b.Fits {
				fits = term.Paint(verdict.Failed, "no")
			} else {
				usable++
			}
			t.Row(name, m.OSVersion+"\n"+term.Faint(humanize.IBytes(uint64(m.MemoryMB)<<20)), orDash(m.Screen), b.Name+" "+orDash(b.Version), fits,
				orDash(b.Driver))
		}
		if len(m.Browsers) == 0 {
			t.Row(name, orDash(m.OSVersion), orDash(m.Screen), "–", term.Paint(verdict.Failed, "no"), "–")
		}
	}
	fmt.Fprintf(r.out, "\n%s\n", t)
	for _, h := range all {
		switch {
		case h.Remedy != "":
			fmt.Fprintf(r.out, "\n%s is %s.\n  %s\n", h.Name, h.State, h.Remedy)
		case len(h.Machine.Browsers) == 0:
			fmt.Fprintf(r.out, "\n%s has no browser that can be driven.\n  Install Chrome on it.\n", h.Name)
		}
		for _, b := range h.Machine.Browsers {
			if !b.Fits {
				fmt.Fprintf(r.out, "\n%s, %s %s: %s.\n  %s\n", h.Name, b.Name, b.Version, b.Problem, b.Remedy)
			}
		}
	}
	return usable
}

func (r *root) standinPhonesCmd() *cobra.Command {
	var at, browser string
	var locked bool
	cmd := &cobra.Command{
		Use: "phones", Short: "Be an adb server with simulated phones, whose browser is a Chromium of this machine", Args: cobra.NoArgs,
		Long: "Be an adb server with two simulated phones. They answer as far as opening a browser needs it; their Chrome is a Chromium of\n" +
			"this machine without a window, outside any sandbox. Start an agent beside it with pane agent --phones ADDRESS.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if browser == "" {
				for _, b := range find.Here().Look(cmd.Context()).Browsers {
					if b.Fits && b.Engine == "chromium" {
						browser = b.Path
						break
					}
				}
			}
			if browser == "" {
				return &exitError{verdict.ExitLab, errors.New("no Chromium here: install one, or name its program with --browser")}
			}
			version, err := standin.VersionOf(browser)
			if err != nil {
				return usage("--browser: %v", err)
			}
			dir, err := os.MkdirTemp("", "pane-phones-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			l, err := net.Listen("tcp", at)
			if err != nil {
				return usage("--listen: %v", err)
			}
			s := standin.New(browser, version, dir, standin.Phones...)
			for _, p := range standin.Phones {
				s.Lock(p.Serial, locked)
				fmt.Fprintf(r.err, "Stand-in %s, Android %s, Chrome %s, serial %s\n", p.Model, p.Android, version, p.Serial)
			}
			fmt.Fprintf(r.err, "Phones at %s. Start an agent with pane agent --phones %[1]s\n", l.Addr())
			return s.Serve(cmd.Context(), l)
		},
	}
	cmd.Flags().StringVar(&at, "listen", adb.Usual, "address to listen at")
	cmd.Flags().StringVar(&browser, "browser", "", "the program that phones open (default the machine's Chromium)")
	cmd.Flags().BoolVar(&locked, "locked", false, "have the phones' screens locked")
	return cmd
}
