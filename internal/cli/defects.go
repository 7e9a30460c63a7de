package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/form"
	"parallelpane/internal/term"
)

// causeOf finds a cause of a run by its place, from 1, or by how its id begins.
func (r *root) causeOf(ctx context.Context, run, cause string) (*client.Client, int, api.Cause, error) {
	c, n, err := r.ofRun(run)
	if err != nil {
		return nil, 0, api.Cause{}, err
	}
	var got api.Causes
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d/causes", n), &got); err != nil {
		return nil, 0, api.Cause{}, err
	}
	if place, err := strconv.Atoi(cause); err == nil && place >= 1 && place <= len(got.Causes) {
		return c, n, got.Causes[place-1], nil
	}
	var like []api.Cause
	for _, x := range got.Causes {
		if x.ID == cause {
			return c, n, x, nil
		}
		if cause != "" && strings.HasPrefix(x.ID, cause) {
			like = append(like, x)
		}
	}
	if len(like) != 1 {
		return nil, 0, api.Cause{}, usage("run #%d has %s, and %d are %q: name one by its place or id, as pane causes %[1]d has them", n,
			term.Number(len(got.Causes), "cause"), len(like), cause)
	}
	return c, n, like[0], nil
}

func (r *root) defectCmd() *cobra.Command {
	f := api.DefectFilter{}
	cmd := &cobra.Command{
		Use: "defect", Short: "File defects of causes in a tracker, and see how they stand", Args: cobra.NoArgs,
		Long: "List defects that were filed of causes, the newest first. A cause has one defect, whatever run it is in; the tracker is asked\n" +
			"every few minutes how it stands, and is told when the cause is back.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			q := url.Values{"project": {f.Project}, "suite": {f.Suite}, "state": {f.State}, "text": {f.Text}, "limit": {strconv.Itoa(f.Limit)}}
			var got []api.Defect
			return r.answer(cmd.Context(), "/defects", q, &got, func() { term.Defects(r.out, got) })
		},
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only of this project")
	cmd.Flags().StringVar(&f.Suite, "suite", "", "only of this suite")
	cmd.Flags().StringVar(&f.State, "state", "", "waiting, refused, open or closed")
	cmd.Flags().StringVar(&f.Text, "text", "", "only those in which this is found")
	cmd.Flags().IntVar(&f.Limit, "limit", 20, "at most this many")
	cmd.AddCommand(r.defectFormCmd(), r.defectFileCmd(), r.defectSameCmd(), r.defectAskCmd(), r.defectDropCmd())
	return cmd
}

func (r *root) defectFormCmd() *cobra.Command {
	tracker := ""
	cmd := &cobra.Command{
		Use: "form RUN CAUSE", Short: "Show a tracker's form, filled in with what is known of a cause", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, got, _, err := r.form(cmd.Context(), args, tracker)
			if err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(got)
			}
			return term.DefectForm(r.out, got)
		},
	}
	cmd.Flags().StringVar(&tracker, "tracker", "", "the tracker's name; the project's first if not given")
	return cmd
}

// form asks for the form of a cause, and where it is filled in.
func (r *root) form(ctx context.Context, args []string, tracker string) (c *client.Client, got api.DefectForm, path string, err error) {
	c, n, cause, err := r.causeOf(ctx, args[0], args[1])
	if err != nil {
		return nil, got, "", err
	}
	path = fmt.Sprintf("/runs/%d/causes/%s/defect", n, url.PathEscape(cause.ID))
	err = c.Get(ctx, path, &got)
	if err != nil || tracker == "" || got.Tracker.Name == tracker {
		return c, got, path, err
	}
	for _, t := range got.Trackers {
		if t.Name == tracker {
			return c, got, path, c.Get(ctx, path+"?tracker="+url.QueryEscape(t.ID), &got)
		}
	}
	return nil, got, "", usage("project %s has no tracker %q: pane tracker lists them", got.Tracker.Project, tracker)
}

func (r *root) defectFileCmd() *cobra.Command {
	var title, severity, tracker string
	var set []string
	anyway := false
	cmd := &cobra.Command{
		Use: "file RUN CAUSE", Short: "File a defect of a cause", Args: cobra.ExactArgs(2),
		Long: "File a defect of a cause, by its place in pane causes or its id. The tracker's form is filled in with what is known;\n" +
			"--title and --severity are the person's, and --set FIELD=VALUE fills in any other field, as JSON where it is some.",
		Example: "  pane defect file 812 1 --title \"Phones cannot hold a berth\" --severity \"some cannot berth\" --set tonight=true",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, got, path, err := r.form(cmd.Context(), args, tracker)
			if err != nil {
				return err
			}
			q := api.DefectRequest{Tracker: got.Tracker.ID, Values: map[string]any{}, Anyway: anyway}
			for _, s := range set {
				name, value, ok := strings.Cut(s, "=")
				if !ok || name == "" {
					return usage("--set: expected FIELD=VALUE, found %q", s)
				}
				q.Values[name] = valueOf(value)
			}
			if title != "" {
				q.Values["title"] = title
			}
			if severity != "" {
				q.Values["severity"] = severity
			}
			return r.defect(cmd.Context(), c, path, q)
		},
	}
	cmd.Flags().StringVar(&title, "title", "", "what is wrong, in a line; the cause's own if not given")
	cmd.Flags().StringVar(&severity, "severity", "", "how bad it is, in the tracker's words: pane defect form shows them")
	cmd.Flags().StringArrayVar(&set, "set", nil, "fill in a field, as FIELD=VALUE; repeat for more")
	cmd.Flags().StringVar(&tracker, "tracker", "", "the tracker's name; the project's first if not given")
	cmd.Flags().BoolVar(&anyway, "anyway", false, "file it though there is one that is most probably the same")
	return cmd
}

// valueOf is a value as JSON, or as the text that it is.
func valueOf(text string) any {
	var v any
	if json.Unmarshal([]byte(text), &v) == nil && v != nil {
		return v
	}
	return text
}

func (r *root) defect(ctx context.Context, c *client.Client, path string, q any) error {
	var d api.Defect
	if err := c.Call(ctx, "POST", path, q, &d); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(d)
	}
	term.Defect(r.out, d)
	return nil
}

func (r *root) defectSameCmd() *cobra.Command {
	tracker := ""
	cmd := &cobra.Command{
		Use: "same RUN CAUSE KEY", Short: "Say which defect of the tracker's a cause is: nothing is filed", Args: cobra.ExactArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, got, path, err := r.form(cmd.Context(), args, tracker)
			if err != nil {
				return err
			}
			return r.defect(cmd.Context(), c, path, api.DefectRequest{Tracker: got.Tracker.ID, Same: args[2]})
		},
	}
	cmd.Flags().StringVar(&tracker, "tracker", "", "the tracker's name; the project's first if not given")
	return cmd
}

// defectBy finds a defect by its key or by how its id begins.
func (r *root) defectBy(ctx context.Context, word string) (*client.Client, string, error) {
	c, err := r.client()
	if err != nil {
		return nil, "", err
	}
	var all []api.Defect
	if err := c.Get(ctx, "/defects?limit=500", &all); err != nil {
		return nil, "", err
	}
	var ids []string
	for _, d := range all {
		if word != "" && (d.Key == word || strings.HasPrefix(d.ID, word)) {
			ids = append(ids, d.ID)
		}
	}
	if len(ids) != 1 {
		return nil, "", usage("%d defects are %q: name one by its key or id, as pane defect has them", len(ids), word)
	}
	return c, ids[0], nil
}

func (r *root) defectAskCmd() *cobra.Command {
	return &cobra.Command{
		Use: "ask DEFECT", Short: "Ask a tracker now how a defect stands; file one now that waits to be filed", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := r.defectBy(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return r.defect(cmd.Context(), c, "/defects/"+id+"/ask", nil)
		},
	}
}

func (r *root) defectDropCmd() *cobra.Command {
	return &cobra.Command{
		Use: "drop DEFECT", Short: "Forget a defect; the tracker keeps what it has", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := r.defectBy(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := c.Call(cmd.Context(), "DELETE", "/defects/"+id, nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(r.out, "It is forgotten here; another can be filed of its cause.")
			return nil
		},
	}
}

func (r *root) trackerCmd() *cobra.Command {
	f := api.TrackerFilter{}
	cmd := &cobra.Command{
		Use: "tracker", Short: "Say where a project's defects are filed", Args: cobra.NoArgs,
		Long: "List trackers. A tracker is an address that gives its form as JSON Schema and takes the filled form; docs/trackers.md\n" +
			"has how it speaks, and the mapping for one that speaks otherwise.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var got []api.Tracker
			return r.answer(cmd.Context(), "/trackers", url.Values{"project": {f.Project}}, &got, func() { term.Trackers(r.out, got) })
		},
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only of this project")
	cmd.AddCommand(r.trackerAddCmd(), r.trackerDropCmd())
	return cmd
}

// maxMapping bounds the file of a mapping, in bytes.
const maxMapping = form.MaxBytes

func (r *root) trackerAddCmd() *cobra.Command {
	q, mapping := api.TrackerRequest{}, ""
	cmd := &cobra.Command{
		Use: "add NAME ADDRESS", Short: "Say where a project's defects are filed", Args: cobra.ExactArgs(2),
		Long: "Say where a project's defects are filed. What opens the tracker is read from PANE_TRACKER_SECRET, so that it is in no list of\n" +
			"processes; it is kept sealed and is shown to nobody.",
		Example: "  pane tracker add harbour http://127.0.0.1:7484/defects --project saltmarsh\n" +
			"  PANE_TRACKER_SECRET=$(cat key) pane tracker add office https://log.saltmarsh.example/entries --project saltmarsh --mapping log.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Name, q.Address, q.Secret = args[0], args[1], os.Getenv("PANE_TRACKER_SECRET")
			if q.Project == "" {
				return usage("--project: say of which project")
			}
			if mapping != "" {
				m, err := readMapping(mapping)
				if err != nil {
					return err
				}
				q.Mapping = m
			}
			c, err := r.client()
			if err != nil {
				return err
			}
			var made api.Tracker
			if err := c.Call(cmd.Context(), "POST", "/trackers", q, &made); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(made)
			}
			fmt.Fprintf(r.out, "Defects of %s are filed at %s. %s\n", term.Tame(made.Project), term.Tame(made.Address), term.Faint(made.ID))
			return nil
		},
	}
	cmd.Flags().StringVar(&q.Project, "project", "", "of this project")
	cmd.Flags().StringVar(&q.Header, "header", "", "header that takes PANE_TRACKER_SECRET; Authorization if not given, after Bearer")
	cmd.Flags().StringVar(&mapping, "mapping", "", "YAML or JSON file that says how a tracker speaks which wants another form of JSON")
	return cmd
}

// readMapping reads how a tracker speaks.
func readMapping(name string) (*api.TrackerMapping, error) {
	src, err := readFile(name, maxMapping)
	if err != nil {
		return nil, usage("%v", err)
	}
	if len(src) > maxMapping {
		return nil, usage("%s: a mapping of more than %d bytes is not read", name, maxMapping)
	}
	var doc any
	if err := yaml.Unmarshal(src, &doc); err != nil {
		return nil, usage("%s: %s", name, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	raw, err := json.Marshal(doc)
	if err != nil {
		return nil, usage("%s: %v", name, err)
	}
	dec := json.NewDecoder(strings.NewReader(string(raw)))
	dec.DisallowUnknownFields()
	m := new(api.TrackerMapping)
	if err := dec.Decode(m); err != nil {
		return nil, usage("%s: %s", name, strings.TrimPrefix(err.Error(), "json: "))
	}
	return m, nil
}

func (r *root) trackerDropCmd() *cobra.Command {
	project := ""
	cmd := &cobra.Command{
		Use: "drop TRACKER", Short: "Forget a tracker; what was filed there stays on record", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var all []api.Tracker
			if err := c.Get(cmd.Context(), "/trackers?project="+url.QueryEscape(project), &all); err != nil {
				return err
			}
			var ids []string
			for _, t := range all {
				if t.Name == args[0] || args[0] != "" && strings.HasPrefix(t.ID, args[0]) {
					ids = append(ids, t.ID)
				}
			}
			if len(ids) != 1 {
				return usage("%d trackers are %q: name one by its name with --project, or by its id", len(ids), args[0])
			}
			if err := c.Call(cmd.Context(), "DELETE", "/trackers/"+ids[0], nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(r.out, "It is forgotten.")
			return nil
		},
	}
	cmd.Flags().StringVar(&project, "project", "", "of this project")
	return cmd
}
