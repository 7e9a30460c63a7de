package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/project"
	"parallelpane/internal/term"
)

func (r *root) envCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "env", Short: "See what a run's base address and variables come to"}
	var o struct {
		dir, environment, base, preset string
		vars                           []string
	}
	explain := &cobra.Command{
		Use: "explain", Short: "Show the base address and every variable, and where each comes from", Args: cobra.NoArgs,
		Long: "Show the base address and every variable of a run, and where each comes from. What counts most comes last: the project's\n" +
			"vars, the environments that an environment comes from, the environment itself, a preset, the command line.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			vars, err := pairs("--var", o.vars)
			if err != nil {
				return err
			}
			var layers []project.Layer
			if o.preset != "" {
				p, err := r.preset(cmd.Context(), o.preset)
				if err != nil {
					return err
				}
				layers = append(layers, project.Layer{From: "preset " + p.Name, Base: p.Request.Base, Vars: p.Request.Vars})
				if o.environment == "" {
					o.environment = p.Request.Environment
				}
			}
			layers = append(layers, project.Layer{From: "the command line", Base: o.base, Vars: vars})
			root, err := project.FindRoot(o.dir)
			if err != nil {
				return usage("%v", err)
			}
			p, err := project.Load(project.Dir(root))
			if err != nil {
				return usage("%v", err)
			}
			all, err := p.Explain(o.environment, layers...)
			if err != nil {
				return usage("%v", err)
			}
			if r.json {
				return r.writeJSON(all)
			}
			r.writeSettings(all)
			return nil
		},
	}
	f := explain.Flags()
	f.StringVar(&o.dir, "dir", ".", "directory of the project")
	f.StringVar(&o.environment, "env", "", "environment of pane.yaml")
	f.StringVar(&o.base, "base", "", "base address instead of the environment's")
	f.StringArrayVar(&o.vars, "var", nil, "NAME=VALUE on top of the environment's variables; repeat for more")
	f.StringVar(&o.preset, "preset", "", "a preset of the service whose settings count too")
	cmd.AddCommand(explain)
	return cmd
}

func (r *root) writeSettings(all []project.Value) {
	if len(all) == 0 {
		fmt.Fprintln(r.out, "There is no base address and no variable: pane.yaml has them under vars and environments.")
		return
	}
	t := term.NewTable("setting", "value", "comes from", "instead of")
	for _, v := range all {
		var over []string
		for _, o := range v.Over {
			over = append(over, fmt.Sprintf("%s (%s)", o.Value, o.From))
		}
		t.Row(v.Name, v.Value, v.From, term.Faint(strings.Join(over, "\n")))
	}
	fmt.Fprintln(r.out, t)
}

// preset is one of the service's.
func (r *root) preset(ctx context.Context, name string) (api.Preset, error) {
	c, err := r.client()
	if err != nil {
		return api.Preset{}, err
	}
	var all []api.Preset
	if err := c.Get(ctx, "/presets", &all); err != nil {
		return api.Preset{}, err
	}
	i := slices.IndexFunc(all, func(p api.Preset) bool { return p.Name == name })
	if i < 0 {
		return api.Preset{}, usage("--preset: there is no preset %q; pane preset lists them", name)
	}
	return all[i], nil
}
