// Package cli is the command line: its commands, the client of the API and what
// is written to a terminal.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"parallelpane/internal/core/verdict"
	"parallelpane/internal/term"
)

// Build is what the program knows of itself.
type Build struct {
	Version string
	Console fs.FS // nil when the console was not built
}

// exitError carries the exit code of an error.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string { return e.err.Error() }
func (e *exitError) Unwrap() error { return e.err }

// usage is an error of the kind that another call can mend.
func usage(format string, args ...any) error {
	return &exitError{verdict.ExitUsage, fmt.Errorf(format, args...)}
}

// silent ends the program with a code and no message, since the output has said
// everything.
func silent(code int) error { return &exitError{code, nil} }

// root holds the flags that every command has.
type root struct {
	build     Build
	address   string
	tokenFile string
	pin       string
	json      bool
	logFormat string
	out       io.Writer
	err       io.Writer
}

// Main runs the program and returns its exit code.
func Main(build Build, args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return Run(ctx, build, args, os.Stdout, os.Stderr)
}

// Run runs one command line.
func Run(ctx context.Context, build Build, args []string, out, errs io.Writer) int {
	r := &root{build: build, out: out, err: errs}
	cmd := r.command()
	cmd.SetArgs(args)
	cmd.SetOut(out)
	cmd.SetErr(errs)
	err := answered(cmd.ExecuteContext(ctx))
	if err == nil {
		return 0
	}
	code := verdict.ExitUsage
	if e, ok := errors.AsType[*exitError](err); ok {
		code = e.code
		if e.err == nil {
			return code
		}
	} else if errors.Is(err, context.Canceled) {
		return verdict.ExitInterrupted
	}
	fmt.Fprintln(errs, "pane:", term.Tame(err.Error()))
	return code
}

func (r *root) command() *cobra.Command {
	cmd := &cobra.Command{
		Use:           "pane",
		Short:         "Run browser tests on every combination of your lab, and see how each went",
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       r.build.Version,
	}
	address := os.Getenv("PANE_SERVICE")
	if address == "" {
		address = "http://" + DefaultAddress
	}
	f := cmd.PersistentFlags()
	f.StringVar(&r.address, "service", address, "address of the service (PANE_SERVICE)")
	f.StringVar(&r.tokenFile, "token-file", "", "file that holds the token (PANE_TOKEN_FILE; or the token itself in PANE_TOKEN)")
	f.StringVar(&r.pin, "pin", os.Getenv("PANE_PIN"), "pin of a service that made its certificate itself, as pane serve prints it (PANE_PIN)")
	f.BoolVar(&r.json, "json", false, "write JSON instead of text")
	f.StringVar(&r.logFormat, "log", "text", "form of the log of serve and agent: text or json")
	cmd.AddGroup(&cobra.Group{ID: "run", Title: "Run tests:"}, &cobra.Group{ID: "lab", Title: "Run the lab:"},
		&cobra.Group{ID: "write", Title: "Write tests:"})
	for group, cmds := range map[string][]*cobra.Command{
		"run": {r.runCmd(), r.runsCmd(), r.showCmd(),
			r.outputCmd(), r.againCmd(), r.overviewCmd(), r.causesCmd(), r.mendCmd(), r.besideCmd(), r.locateCmd(), r.asideCmd(),
			r.compareCmd(), r.unsteadyCmd(), r.shakeCmd(), r.slowCmd(), r.trendsCmd(), r.exportCmd(), r.notifyCmd(), r.shareCmd(), r.notesCmd(),
			r.defectCmd(), r.trackerCmd(), r.accountCmd(), r.meCmd(),
			r.apiCmd(),
			r.bisectCmd(), r.cancelCmd(), r.fetchCmd(), r.sessionsCmd(), r.verdictCmd(),
			r.relayCmd(), r.relaysCmd(), r.secretCmd(), r.presetCmd(), r.scheduleCmd()},
		"lab": {r.serveCmd(), r.agentCmd(), r.agentsCmd(), r.browsersCmd(), r.whyCmd(), r.forecastCmd(), r.quotaCmd(), r.recordCmd(), r.keepCmd(),
			r.sweepCmd(), r.tokenCmd(), r.auditCmd(), r.backupCmd(), r.restoreCmd(), r.checkDataCmd(), r.linkCmd(), r.standinCmd(), r.demoCmd()},
		"write": {r.lintCmd(), r.tryCmd(), r.readCmd(), r.envCmd(), r.snippetCmd(), r.matrixCmd(), r.schemaCmd(), r.devicesCmd()},
	} {
		for _, c := range cmds {
			c.GroupID = group
			cmd.AddCommand(c)
		}
	}
	return cmd
}

func (r *root) logger() (*slog.Logger, error) {
	level := slog.LevelInfo
	if os.Getenv("PANE_DEBUG") != "" {
		level = slog.LevelDebug
	}
	opts := &slog.HandlerOptions{Level: level}
	switch r.logFormat {
	case "text":
		return slog.New(slog.NewTextHandler(r.err, opts)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(r.err, opts)), nil
	}
	return nil, usage("--log: expected text or json, found %q", r.logFormat)
}

func (r *root) writeJSON(v any) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(r.out, term.Escape(b.String()))
	return err
}
