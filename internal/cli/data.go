package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/backup"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/keep"
	"parallelpane/internal/service"
)

func (r *root) backupCmd() *cobra.Command {
	return &cobra.Command{
		Use: "backup FILE", Short: "Save the service's records and recordings to a file while it runs", Args: cobra.ExactArgs(1),
		Long: `Save what the service keeps, records and recordings, to a tar archive while it goes on. The key of the secrets
and the first tokens are not in it. pane restore makes a data directory of it.`,
		RunE: func(cmd *cobra.Command, args []string) error { return r.backup(cmd.Context(), args[0]) },
	}
}

// saved is what backup and restore say.
type saved struct {
	File     string    `json:"file"`
	MadeAt   time.Time `json:"made_at"`
	Contents int       `json:"contents"`
	Bytes    int64     `json:"bytes"`
}

func (r *root) backup(ctx context.Context, file string) (err error) {
	c, err := r.client()
	if err != nil {
		return err
	}
	resp, err := c.Do(ctx, http.MethodGet, "/backup", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	part := file + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return usage("%v", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(part))
		}
	}()
	head, end, err := backup.Read(&watched{io.TeeReader(resp.Body, f), r.counting("saved")}, nil)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return &exitError{verdict.ExitLab, fmt.Errorf("the backup did not come whole: %w", err)}
	}
	if err = os.Rename(part, file); err != nil {
		return err
	}
	return r.tellSaved("Saved", saved{file, head.MadeAt, end.Contents, end.Bytes})
}

func (r *root) tellSaved(did string, s saved) error {
	if r.json {
		return r.writeJSON(s)
	}
	fmt.Fprintf(r.out, "%s: %s with %d recordings and bundles, %s, as it was on %s\n", did, s.File, s.Contents,
		humanize.Bytes(uint64(s.Bytes)), s.MadeAt.Local().Format("2006-01-02 15:04:05"))
	return nil
}

func (r *root) restoreCmd() *cobra.Command {
	var data string
	cmd := &cobra.Command{
		Use: "restore FILE", Short: "Make a data directory of a backup", Args: cobra.ExactArgs(1),
		Long: `Make a data directory of a backup, for pane serve --data. The directory must not hold anything. A new admin's
token is left in it; the tokens of the backup are good as they were. Give pane serve the key of the secrets that the
service had, or runs that had not ended and have secrets are set aside.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return usage("%v", err)
			}
			defer f.Close()
			dir, err := filepath.Abs(data)
			if err != nil {
				return usage("--data: %v", err)
			}
			head, end, err := service.Restore(cmd.Context(), &watched{f, r.counting("restored")}, dir)
			if err != nil {
				return usage("%v", err)
			}
			return r.tellSaved("Restored", saved{dir, head.MadeAt, end.Contents, end.Bytes})
		},
	}
	cmd.Flags().StringVar(&data, "data", "./pane-data", "directory to make")
	return cmd
}

func (r *root) checkDataCmd() *cobra.Command {
	var data string
	var contents bool
	cmd := &cobra.Command{
		Use: "check-data", Short: "Look through a data directory for what is damaged or missing", Args: cobra.NoArgs,
		Long: `Look through the data directory of a service, which may be running: whether the records are whole, whether
every run can be drawn, and whether the recordings that records name are there; with --contents, also whether these are
what they were. Ends with 3 if something is damaged. What is missing may have been swept away; the records stay.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			report, err := keep.Check(cmd.Context(), data, contents, func(what string, n int) {
				if !r.json && n > 0 {
					fmt.Fprintf(r.err, "\r%d %s looked at ", n, what)
				}
			})
			if err != nil {
				return usage("%v", err)
			}
			return r.tellReport(report)
		},
	}
	cmd.Flags().StringVar(&data, "data", "./pane-data", "directory to look through")
	cmd.Flags().BoolVar(&contents, "contents", false, "read every recording and bundle, too")
	return cmd
}

func (r *root) tellReport(d api.DataReport) error {
	api.Fill(&d)
	damaged := error(nil)
	if d.Wrong > 0 {
		damaged = silent(verdict.ExitLab)
	}
	if r.json {
		return errors.Join(r.writeJSON(d), damaged)
	}
	fmt.Fprintln(r.err)
	for _, f := range d.Findings {
		fmt.Fprintln(r.out, "damaged:", f)
	}
	if more := d.Wrong - len(d.Findings); more > 0 {
		fmt.Fprintf(r.out, "damaged: %d more\n", more)
	}
	if d.Gone > 0 {
		fmt.Fprintf(r.out, "missing: %d recordings or bundles, swept away or lost; --json lists them\n", d.Gone)
	}
	fmt.Fprintf(r.out, "Looked at %d runs and %d recordings and bundles: %d damaged.\n", d.Runs, d.Contents, d.Wrong)
	if d.Wrong > 0 {
		fmt.Fprintln(r.out, "Everything else can be used. Where that is not enough, pane restore makes a data directory of a backup.")
	}
	return damaged
}

// watched tells how much was read.
type watched struct {
	io.Reader
	tell func(n int)
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	w.tell(n)
	return n, err
}

// counting shows on the error output how many bytes there are, about once a second.
func (r *root) counting(what string) func(n int) {
	var total, shown int64
	last := time.Now()
	return func(n int) {
		if total += int64(n); !r.json && total != shown && time.Since(last) > time.Second {
			fmt.Fprintf(r.err, "\r%s %s ", humanize.Bytes(uint64(total)), what)
			shown, last = total, time.Now()
		}
	}
}
