package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/client"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/engine/stock"
	"parallelpane/internal/term"
)

func (r *root) browsersCmd() *cobra.Command {
	var own string
	var only []string
	cmd := &cobra.Command{Use: "browsers", Short: "Show which agent has which browser; stock agents with more", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return r.browsers(cmd.Context(), only) }}
	cmd.Flags().StringArrayVar(&only, "browser", nil, "only browsers of this name; repeat for more")
	cmd.PersistentFlags().StringVar(&own, "browsers", "", "this machine's directory of browsers (default in the user's cache)")
	machine := func() (find.Machine, error) { return lookFrom("", own, "") }
	cmd.AddCommand(&cobra.Command{
		Use: "add ARCHIVE…", Short: "Unpack one browser or driver into this machine's directory of browsers",
		Long: "Unpack one browser or driver into this machine's directory of browsers: .deb, .tar.xz, .tar.gz, .tar.zst, .zip or a\n" +
			"directory. Several archives together are one installation, as a browser, its common files and its driver often come.\n" +
			"Agents of this machine offer it within a few seconds.",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := machine()
			if err != nil {
				return err
			}
			return r.addBrowser(cmd.Context(), m, args)
		},
	}, &cobra.Command{
		Use: "here", Short: "List the installations in this machine's directory of browsers", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := machine()
			if err != nil {
				return err
			}
			all, err := stock.Folders(cmd.Context(), m)
			if err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintf(r.out, "%s holds no browser. Unpack one with pane browsers add ARCHIVE…\n", m.Own[0])
				return nil
			}
			t := term.NewTable("folder", "browser", "driver")
			for _, a := range all {
				browser, driver := "–", "–"
				if a.Browser != nil {
					browser = a.Browser.Name + " " + a.Browser.Version
				}
				if a.Driver != nil {
					driver = a.Driver.Name + " " + a.Driver.Version
				}
				t.Row(a.Folder, browser, driver)
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	})
	var needs []string
	var name string
	give := &cobra.Command{
		Use: "stock ARCHIVE…", Short: "Give a browser or driver to every agent that matches, now and later",
		Long: "Give one browser or driver to the service, which hands it to every agent that matches, now and later. Archives are as for\n" +
			"pane browsers add. Each agent unpacks it, opens a session on it and offers it when that went well; pane browsers tells.",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return r.stock(cmd.Context(), name, needs, args) },
	}
	give.Flags().StringArrayVar(&needs, "needs", nil,
		"which agents get it, such as \"os=linux arch=amd64\"; repeat for more (default every agent)")
	give.Flags().StringVar(&name, "name", "", "what people call it (default the archives' names)")
	here := false
	drop := &cobra.Command{
		Use: "drop NAME", Short: "Take a stocked browser away from every agent, by its id or name", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !here {
				return r.dropStock(cmd.Context(), args[0])
			}
			m, err := machine()
			if err != nil {
				return err
			}
			if err := stock.Drop(m, args[0]); err != nil {
				return usage("%v", err)
			}
			if r.json {
				return r.writeJSON(map[string]string{"folder": args[0], "state": "gone"})
			}
			fmt.Fprintf(r.out, "%s is gone from %s\n", args[0], m.Own[0])
			return nil
		},
	}
	drop.Flags().BoolVar(&here, "here", false, "take a folder away from this machine's directory of browsers instead")
	cmd.AddCommand(give, drop)
	return cmd
}

// stock sends archives that the service has not yet, and has it hand them out.
func (r *root) stock(ctx context.Context, name string, needs, archives []string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	q := api.StockRequest{Name: name, Needs: strings.Fields(strings.Join(needs, " "))}
	if _, err := fleet.ParseNeeds(q.Needs); err != nil {
		return usage("--needs: %v", err)
	}
	var made api.Stock
	if err := r.stockAs(ctx, c, q, archives, &made); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(made)
	}
	fmt.Fprintf(r.out, "%s is stocked as %s for %d agents. Watch it arrive: pane browsers\n", made.Name, made.ID, len(made.On))
	return nil
}

func (r *root) stockAs(ctx context.Context, c *client.Client, q api.StockRequest, archives []string, made *api.Stock) error {
	for _, file := range archives {
		a, err := r.sendArchive(ctx, c, file)
		if err != nil {
			return err
		}
		q.Archives = append(q.Archives, a)
	}
	return c.Call(ctx, http.MethodPost, "/stock", q, made)
}

func (r *root) sendArchive(ctx context.Context, c *client.Client, file string) (a api.StockArchive, err error) {
	f, err := os.Open(file)
	if err != nil {
		return a, usage("%v", err)
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return a, usage("%v", err)
	case info.IsDir():
		return a, usage("%s is a directory: pack it first, such as with tar -czf, or use pane browsers add on the agent's machine", file)
	case info.Size() > api.MaxStockArchive:
		return a, usage("%s has %s; at most %s are stocked", file, humanize.Bytes(uint64(info.Size())), humanize.Bytes(api.MaxStockArchive))
	}
	a.Name = filepath.Base(file)
	if a.Hash, a.Size, err = blobs.Sum(f); err != nil {
		return a, usage("read %s: %v", file, err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return a, usage("read %s: %v", file, err)
	}
	_, err = c.SendOnce(ctx, "/stock/archives/"+a.Hash, &watched{f, r.counting("of " + a.Name)})
	return a, err
}

func (r *root) dropStock(ctx context.Context, name string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	var all api.Browsers
	if err := c.Get(ctx, "/browsers", &all); err != nil {
		return err
	}
	i := slices.IndexFunc(all.Stock, func(s api.Stock) bool { return s.ID == name || s.Name == name })
	if i < 0 {
		return usage("nothing is stocked as %q: pane browsers lists what is", name)
	}
	if err := c.Call(ctx, http.MethodDelete, "/stock/"+all.Stock[i].ID, nil, nil); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(map[string]string{"stock": name, "state": "dropped"})
	}
	fmt.Fprintf(r.out, "%s is stocked no more; agents take it away when no session uses it\n", name)
	return nil
}

// browsers draws the grid of browsers and agents.
func (r *root) browsers(ctx context.Context, only []string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	var all api.Browsers
	if err := c.Get(ctx, "/browsers", &all); err != nil {
		return err
	}
	all.Rows = slices.DeleteFunc(all.Rows, func(row api.BrowserRow) bool { return len(only) > 0 && !slices.Contains(only, row.Browser) })
	if r.json {
		return r.writeJSON(all)
	}
	if len(all.Agents) == 0 {
		fmt.Fprintln(r.out, "No agent has joined yet. Start one on a machine with browsers: pane agent --service", c.Base)
		return nil
	}
	fmt.Fprint(r.out, term.Browsers(all))
	return nil
}

func (r *root) addBrowser(ctx context.Context, m find.Machine, archives []string) error {
	for i, a := range archives {
		abs, err := filepath.Abs(a)
		if err != nil {
			return usage("%v", err)
		}
		archives[i] = abs
	}
	fmt.Fprintf(r.err, "Unpacking into %s …\n", m.Own[0])
	a, err := stock.Add(ctx, m, "", archives...)
	var bad *stock.Bad
	switch {
	case errors.As(err, &bad):
		return usage("%v", err)
	case err != nil:
		return usage("%v", err)
	}
	if r.json {
		return r.writeJSON(a)
	}
	fmt.Fprintf(r.out, "%s is in %s, %s. See what fits: pane agent check\n", a.Name(), filepath.Join(m.Own[0], a.Folder),
		humanize.Bytes(uint64(a.Bytes)))
	return nil
}
