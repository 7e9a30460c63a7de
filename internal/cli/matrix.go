package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/project"
	"parallelpane/internal/script"
)

func (r *root) matrixCmd() *cobra.Command {
	var name, cover, effort string
	cmd := &cobra.Command{Use: "matrix", Short: "See what a matrix comes to"}
	plan := &cobra.Command{
		Use:   "plan FILE",
		Short: "List a matrix's combinations, what its rules leave out and why, and what is covered",
		Long: `List the combinations of a matrix in a project file, or in any YAML file with matrices. Works without a
service. The same file always gives the same combinations.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return r.matrixPlan(args[0], name, cover, effort) },
	}
	plan.Flags().StringVar(&name, "name", "", "which matrix, where the file has several")
	plan.Flags().StringVar(&cover, "cover", "", "instead of the file's: all, each, pairs, triples or a strength from 1 to 6")
	plan.Flags().StringVar(&effort, "effort", "", "instead of the file's: normal or high")
	plan.Flags().Bool("offline", false, "do not ask a service; so far none is ever asked, since versions are literal")
	cmd.AddCommand(plan)
	return cmd
}

func (r *root) matrixPlan(file, name, cover, effort string) error {
	src, err := os.ReadFile(file)
	if err != nil {
		return usage("%v", err)
	}
	all, err := project.Matrices(file, src)
	if ps, ok := errors.AsType[script.Problems](err); ok {
		return usage("%v", ps)
	} else if err != nil {
		return err
	}
	m, err := (&project.Project{Matrices: all}).Matrix(name)
	if err != nil {
		return usage("%s: %v", file, err)
	}
	if cover != "" {
		c, err := combo.ParseCover(cover)
		if err != nil {
			return usage("--cover: %v", err)
		}
		m.Cover.Strength = c.Strength
	}
	if effort != "" {
		m.Effort = combo.Effort(effort)
	}
	plan, err := m.Plan()
	if err != nil {
		return usage("%s: %v", file, err)
	}
	if r.json {
		return r.writeJSON(plan)
	}
	r.writePlan(m, plan)
	return nil
}

// maxMissingShown bounds the list of what is missing on a terminal.
const maxMissingShown = 20

func (r *root) writePlan(m combo.Matrix, plan combo.Plan) {
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
	t := newTable(append([]string{"#"}, headers...)...)
	for i, c := range plan.Combinations {
		row := []string{fmt.Sprint(i + 1)}
		for _, h := range headers {
			row = append(row, orDash(c.Values[h]))
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
	if len(plan.Missing) == 0 {
		return
	}
	fmt.Fprintf(r.out, "\nLeft out by rules: %d\n", len(plan.Missing)+plan.Cover.Left)
	for i, miss := range plan.Missing {
		if i == maxMissingShown {
			fmt.Fprintf(r.out, "  … and %d more; --json lists them\n", len(plan.Missing)+plan.Cover.Left-i)
			break
		}
		var parts []string
		for _, axis := range (combo.Combination{Values: miss.Values}).Names() {
			parts = append(parts, axis+"="+miss.Values[axis])
		}
		fmt.Fprintf(r.out, "  %s: %s\n", strings.Join(parts, " "), faint(miss.Reason))
	}
}
