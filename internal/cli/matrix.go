package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/project"
	"parallelpane/internal/term"
)

// matrixOptions are the flags of matrix plan.
type matrixOptions struct {
	name, cover, effort, project string
	offline, lab                 bool
}

func (r *root) matrixCmd() *cobra.Command {
	var o matrixOptions
	cmd := &cobra.Command{Use: "matrix", Short: "See what a matrix comes to"}
	plan := &cobra.Command{
		Use:   "plan [FILE]",
		Short: "List a matrix's combinations, what its rules leave out and why, and what is covered",
		Long: `List the combinations of a matrix in a project file, or in any YAML file with matrices. Without a file it is
the project of the directory, and without --name its default matrix.

Where a version is a range or latest, the service is asked which versions its agents have. With --lab it
is also asked what they can do at all: covers then keep to that. With --offline it is never asked, and
versions stay as they are written. The same file and fleet always give the same combinations.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				return r.matrixPlan(cmd.Context(), args[0], o)
			}
			root, err := project.FindRoot(".")
			if err != nil {
				return usage("%v; or name a file with matrices", err)
			}
			return r.matrixPlan(cmd.Context(), filepath.Join(root, project.FileName), o)
		},
	}
	f := plan.Flags()
	f.StringVar(&o.name, "name", "", "which matrix, where the file has several")
	f.StringVar(&o.cover, "cover", "", "instead of the file's: all, each, pairs, triples or a strength from 1 to 6")
	f.StringVar(&o.effort, "effort", "", "instead of the file's: normal or high")
	f.StringVar(&o.project, "project", "", "with the service: whose agents to look at besides the shared ones")
	f.BoolVar(&o.offline, "offline", false, "do not ask the service, whatever the versions")
	f.BoolVar(&o.lab, "lab", false, "ask the service what its agents can do")
	plan.MarkFlagsMutuallyExclusive("offline", "lab")
	cmd.AddCommand(plan)
	return cmd
}

// relative says whether a matrix has versions that mean something only in a lab.
func relative(m combo.Matrix) bool {
	named := slices.ContainsFunc(m.Axes, func(a combo.Axis) bool { return a.Name == "browser" || a.Name == "engine" })
	return named && slices.ContainsFunc(m.Axes, func(a combo.Axis) bool {
		return a.Name == "version" && slices.ContainsFunc(a.Values, func(v string) bool {
			s, err := combo.ParseSelector(v)
			return err == nil && !s.Literal()
		})
	})
}

func (r *root) matrixPlan(ctx context.Context, file string, o matrixOptions) error {
	src, err := os.ReadFile(file)
	if err != nil {
		return usage("%v", err)
	}
	all, err := project.Matrices(file, src)
	if ps, ok := errors.AsType[source.Problems](err); ok {
		return usage("%v", ps)
	} else if err != nil {
		return err
	}
	p := &project.Project{Matrices: all}
	if whole, err := project.Parse(file, src); err == nil { // a whole project says which is meant
		p.Default = whole.Default
	}
	m, err := p.Matrix(o.name)
	if err != nil {
		return usage("%s: %v", file, err)
	}
	if o.cover != "" {
		c, err := combo.ParseCover(o.cover)
		if err != nil {
			return usage("--cover: %v", err)
		}
		m.Cover.Strength = c.Strength
	}
	if o.effort != "" {
		m.Effort = combo.Effort(o.effort)
	}
	var planned api.PlannedMatrix
	if !o.offline && (o.lab || relative(m)) {
		c, err := r.client()
		if err == nil {
			err = c.Call(ctx, "POST", "/matrix/plan", map[string]any{"matrix": m, "project": o.project}, &planned)
		}
		if err != nil && !o.lab {
			return fmt.Errorf("%s has versions that only the lab can tell (--offline leaves them as they are): %w", file, err)
		} else if err != nil {
			return err
		}
	} else if planned.Plan, err = m.Plan(nil); err != nil {
		return usage("%s: %v", file, err)
	}
	if r.json {
		if planned.Agents == nil {
			return r.writeJSON(planned.Plan)
		}
		return r.writeJSON(planned)
	}
	r.writePlan(m, planned)
	return nil
}

// maxMissingShown bounds the list of what is missing on a terminal.
const maxMissingShown = 20

func (r *root) writePlan(m combo.Matrix, plan api.PlannedMatrix) {
	var headers []string
	for _, a := range m.Axes {
		headers = append(headers, a.Name)
	}
	for _, values := range m.Add {
		for _, axis := range (combo.Combination{Values: values}).Names() {
			if !slices.Contains(headers, axis) {
				headers = append(headers, axis)
			}
		}
	}
	heads := append([]string{"#"}, headers...)
	if plan.Agents != nil {
		heads = append(heads, "agents")
	}
	t := term.NewTable(heads...)
	impossible := 0
	for i, c := range plan.Combinations {
		row := []string{fmt.Sprint(i + 1)}
		for _, h := range headers {
			row = append(row, orDash(c.Values[h]))
		}
		if plan.Agents != nil {
			who := fmt.Sprint(len(plan.Agents[i]))
			if c.Impossible != "" {
				who = term.Paint(verdict.Unsupported, "none")
				impossible++
			}
			row = append(row, who)
		}
		t.Row(row...)
	}
	fmt.Fprintln(r.out, t)
	points := fmt.Sprint(m.Points())
	if m.Points() > combo.MaxPoints {
		points = fmt.Sprintf("more than %d", combo.MaxPoints)
	}
	fmt.Fprintf(r.out, "\n%d combinations of %s in the full product.", len(plan.Combinations), points)
	if m.Cover.Strength > 0 {
		fmt.Fprintf(r.out, " They cover %d of %d tuples of %d values.", plan.Cover.Covered, plan.Cover.Tuples, plan.Cover.Strength)
	}
	fmt.Fprintln(r.out)
	if impossible > 0 {
		fmt.Fprintf(r.out, "\nNo agent could run %d of them:\n", impossible)
		shown := map[string]bool{}
		for _, c := range plan.Combinations {
			if c.Impossible != "" && !shown[c.Impossible] && len(shown) < maxMissingShown {
				shown[c.Impossible] = true
				fmt.Fprintf(r.out, "  %s: %s\n", c.Label, term.Faint(c.Impossible))
			}
		}
	}
	if len(plan.Missing) == 0 {
		return
	}
	fmt.Fprintf(r.out, "\nLeft out: %d\n", len(plan.Missing)+plan.Cover.Left)
	for i, miss := range plan.Missing {
		if i == maxMissingShown {
			fmt.Fprintf(r.out, "  … and %d more; --json lists them\n", len(plan.Missing)+plan.Cover.Left-i)
			break
		}
		var parts []string
		for _, axis := range (combo.Combination{Values: miss.Values}).Names() {
			parts = append(parts, axis+"="+miss.Values[axis])
		}
		fmt.Fprintf(r.out, "  %s: %s\n", strings.Join(parts, " "), term.Faint(miss.Reason))
	}
}
