package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/source"
	"parallelpane/internal/project"
	"parallelpane/internal/script"
	"parallelpane/internal/term"
)

func (r *root) lintCmd() *cobra.Command {
	better := false
	cmd := &cobra.Command{
		Use: "lint [DIR]", Short: "Check pane.yaml and every script, without a service", Args: cobra.MaximumNArgs(1),
		Long: "Check pane.yaml and every script, without a service, and say which locators are likely to break: long ones, ones that\n" +
			"count elements, and ones by names that a program makes up.\n\nExit code: 0 nothing is wrong, 2 something is.",
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			return r.lint(cmd.Context(), dir, better)
		},
	}
	cmd.Flags().BoolVar(&better, "better", false, "ask the service for locators that passing runs have met in place of brittle ones")
	return cmd
}

func (r *root) lint(ctx context.Context, dir string, better bool) error {
	root, err := project.FindRoot(dir)
	if err != nil {
		return usage("%v", err)
	}
	files := project.Dir(root)
	problems := source.Problems{}
	tests, suites := 0, 0
	gather := func(err error) error {
		if ps, ok := errors.AsType[source.Problems](err); ok {
			problems = append(problems, ps...)
			return nil
		}
		return err
	}
	p, err := project.Load(files)
	if err := gather(err); err != nil {
		return usage("%v", err)
	}
	if p != nil {
		for _, s := range p.Suites {
			if s.Listed() { // its tests are known once it has been asked
				suites++
				continue
			}
			cases, err := p.Cases(files, s)
			if err := gather(err); err != nil {
				return usage("%v", err)
			}
			suites++
			tests += len(cases)
		}
	}
	brittle := []api.Brittle{}
	if p != nil && len(problems) == 0 {
		if brittle, err = r.brittle(ctx, p, files, better); err != nil {
			return err
		}
	}
	if r.json {
		err := r.writeJSON(map[string]any{"root": root, "suites": suites, "tests": tests, "problems": problems, "brittle": brittle})
		if err != nil {
			return err
		}
	} else {
		for _, q := range problems {
			fmt.Fprintln(r.out, q.Error())
		}
		r.writeBrittle(brittle, better)
	}
	if len(problems) > 0 {
		if r.json {
			return silent(2)
		}
		return usage("%d to mend in %s", len(problems), root)
	}
	if !r.json {
		fmt.Fprintf(r.out, "%s: %s, %s, nothing to mend\n", root, term.Number(suites, "suite"), term.Number(tests, "test"))
	}
	return nil
}

func (r *root) schemaCmd() *cobra.Command {
	return &cobra.Command{
		Use: "schema script|project", Short: "Print the JSON Schema of a file format, for editors", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			schema := map[string][]byte{"script": script.Schema, "project": project.Schema}[args[0]]
			if schema == nil {
				return usage("schema: expected script or project, found %q", args[0])
			}
			_, err := r.out.Write(schema)
			return err
		},
	}
}

// slow says what of a device is slower than its agent.
func slow(p device.Profile) string {
	var words []string
	if p.Network != "" {
		words = append(words, "network "+p.Network)
	}
	if p.CPU > 1 {
		words = append(words, fmt.Sprintf("cpu %g×", p.CPU))
	}
	return strings.Join(words, ", ")
}

func (r *root) devicesCmd() *cobra.Command {
	var dir string
	var want device.Wanted
	cmd := &cobra.Command{
		Use: "devices", Short: "List the emulated devices, those of the project in this directory included", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			all := device.Catalogue
			if root, err := project.FindRoot(dir); err == nil {
				p, err := project.Load(project.Dir(root))
				if err != nil {
					return usage("%v", err)
				}
				all = slices.Concat(all, p.Devices)
			}
			list, err := device.Search(all, want)
			if err != nil {
				return usage("--%v", err)
			}
			if r.json {
				return r.writeJSON(list)
			}
			t := term.NewTable("device", "what it is", "viewport", "density", "touch", "layout", "slow", "figures")
			for _, p := range list {
				layout, touch := "wide", "–"
				if p.Small() {
					layout = "small"
				}
				if p.Touch {
					touch = "yes"
				}
				t.Row(p.Name, p.Title, fmt.Sprintf("%d×%d", p.Size.Width, p.Size.Height), fmt.Sprintf("%g", p.Density), touch, layout, orDash(slow(p)),
					term.Faint(p.Source))
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
	cmd.Flags().StringVar(&dir, "dir", ".", "directory of the project")
	cmd.Flags().StringVar(&want.Like, "like", "", "the eight whose viewports are nearest to a size such as 390x844")
	cmd.Flags().StringVar(&want.Family, "family", "", "only desktop, laptop, tablet, foldable or phone")
	cmd.Flags().StringVar(&want.Text, "text", "", "only devices in whose name or description this is found")
	return cmd
}
