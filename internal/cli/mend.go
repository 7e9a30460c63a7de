package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/source"
	"parallelpane/internal/project"
	"parallelpane/internal/term"
)

func (r *root) mendCmd() *cobra.Command {
	patch := false
	cmd := &cobra.Command{
		Use: "mend [RUN]", Short: "Say which locators find nothing any more, and what finds their elements now", Args: cobra.MaximumNArgs(1),
		Long: "Say which locators of a run's scripts find nothing any more, which element is like the one that each found when its test\n" +
			"last passed, how sure that is, and what finds it now. RUN is a number; without one it is the newest run.\n\n" +
			"With --patch it prints a unified diff that puts the new locators into the scripts, to be read and applied in the project's\n" +
			"directory.",
		Example: "  pane mend 812\n  pane mend 812 --patch | patch -p1",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, err := r.newestOr(cmd.Context(), args)
			if err != nil {
				return err
			}
			var got api.AgedLocators
			if err := c.Get(cmd.Context(), fmt.Sprintf("/runs/%d/mending", number), &got); err != nil {
				return err
			}
			switch {
			case r.json:
				return r.writeJSON(got)
			case patch:
				for _, why := range got.Left {
					fmt.Fprintf(r.err, "left alone: %s\n", term.Tame(why))
				}
				_, err := io.WriteString(r.out, got.Patch)
				return err
			}
			term.Aged(r.out, got)
			return nil
		},
	}
	cmd.Flags().BoolVar(&patch, "patch", false, "print a patch for the scripts")
	return cmd
}

// brittle lists the brittle locators of a project's scripts, with better ones where the
// service knows of some.
func (r *root) brittle(ctx context.Context, p *project.Project, files project.Files, ask bool) ([]api.Brittle, error) {
	out := []api.Brittle{}
	seen := map[source.Position]bool{}
	for _, s := range p.Suites {
		if s.Kind != project.ScriptKind {
			continue
		}
		scripts, err := p.Scripts(files, s)
		if err != nil {
			return nil, err
		}
		known := map[string]string{} // better locators by file and place
		if ask {
			c, err := r.client()
			if err != nil {
				return nil, err
			}
			var all []api.Better
			if err := c.Get(ctx, "/locators?"+url.Values{"project": {p.Name}, "suite": {s.Name}}.Encode(), &all); err != nil {
				return nil, err
			}
			for _, b := range all {
				known[b.At.File+"\n"+b.Place] = b.Better
			}
		}
		for _, sc := range scripts {
			for _, b := range sc.Brittle() {
				if seen[b.Position] {
					continue
				}
				seen[b.Position] = true
				out = append(out, api.Brittle{At: b.Position, Test: sc.Name, Was: b.String(), Why: b.Why, Better: known[b.File+"\n"+b.Place]})
			}
		}
	}
	return out, nil
}

func (r *root) writeBrittle(all []api.Brittle, asked bool) {
	for _, b := range all {
		fmt.Fprintf(r.out, "%s: %s may break: %s\n", b.At, b.Was, b.Why)
		switch {
		case b.Better != "":
			fmt.Fprintf(r.out, "    better: %s\n", b.Better)
		case asked:
			fmt.Fprintf(r.out, "    %s\n", term.Faint("no run has met a better one yet"))
		}
	}
	if len(all) > 0 && !asked {
		fmt.Fprintln(r.out, term.Faint("pane lint --better asks the service for locators that passing runs have met in their place"))
	}
}
