package term

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/form"
	"parallelpane/internal/core/verdict"
)

// Defects lists defects.
func Defects(w io.Writer, all []api.Defect) {
	if len(all) == 0 {
		fmt.Fprintln(w, "No defect is like that: pane defect file RUN CAUSE files one of a cause.")
		return
	}
	t := NewTable("defect", "", "title", "of", "filed by", "link")
	for _, d := range all {
		t.Row(Tame(keyOf(d)), standing(d), Tame(d.Title), Tame(fmt.Sprintf("%s %s #%d", d.Project, d.Suite, d.Run)), Tame(d.By), Tame(d.Link))
	}
	fmt.Fprintln(w, t)
}

func keyOf(d api.Defect) string {
	if d.Key == "" {
		return d.ID[:min(8, len(d.ID))]
	}
	return d.Key
}

// standing says how a defect stands.
func standing(d api.Defect) string {
	switch {
	case d.State == api.Awaiting:
		return Paint(verdict.Flaky, "waits")
	case d.State == api.Refused:
		return Paint(verdict.LabFault, "not filed")
	case d.Closed:
		return Paint(verdict.Passed, Tame(d.Status))
	case d.Status == "":
		return Faint("not known")
	}
	return Tame(d.Status)
}

// Defect shows one.
func Defect(w io.Writer, d api.Defect) {
	fmt.Fprintf(w, "%s %s\n", bold.Render(Tame(keyOf(d)+" "+d.Title)), standing(d))
	if d.Link != "" {
		fmt.Fprintln(w, Tame(d.Link))
	}
	switch {
	case d.State == api.Awaiting && d.Trouble != "":
		fmt.Fprintf(w, "The tracker has not taken it yet: %s. It is tried again; pane defect ask %s does it now.\n", Tame(d.Trouble), keyOf(d))
	case d.State == api.Awaiting:
		fmt.Fprintln(w, "It is on its way: pane defect says what became of it.")
	case d.State == api.Refused:
		fmt.Fprintf(w, "The tracker did not take it: %s. Mend that, and file it again.\n", Tame(d.Trouble))
	case d.Trouble != "":
		fmt.Fprintf(w, "The tracker could not be asked: %s.\n", Tame(d.Trouble))
	}
}

// Trackers lists trackers.
func Trackers(w io.Writer, all []api.Tracker) {
	if len(all) == 0 {
		fmt.Fprintln(w, "Defects are filed nowhere yet: pane tracker add NAME ADDRESS --project NAME")
		return
	}
	t := NewTable("tracker", "of", "at", "speaks", "added by", "id")
	for _, x := range all {
		speaks := "as the lab does"
		if x.Mapping != nil {
			speaks = "by a mapping"
		}
		t.Row(Tame(x.Name), Tame(x.Project), Tame(x.Address), speaks, Tame(x.By), Faint(x.ID))
	}
	fmt.Fprintln(w, t)
}

// DefectForm shows a form with what is filled in.
func DefectForm(w io.Writer, f api.DefectForm) error {
	var schema struct {
		Title      string
		Required   []string
		Properties map[string]struct {
			Title string
			Enum  []any
			Type  any
		}
	}
	if err := json.Unmarshal(f.Schema, &schema); err != nil {
		return fmt.Errorf("the tracker's form: %w", err)
	}
	fmt.Fprintln(w, bold.Render(Tame(strings.TrimSpace(schema.Title+", for "+f.Tracker.Name))))
	shape, err := form.Parse(f.Schema)
	if err != nil {
		return fmt.Errorf("the tracker's form: %w", err)
	}
	t := NewTable("field", "", "what it takes", "filled in with")
	for _, name := range shape.Names() {
		p := schema.Properties[name]
		takes := fmt.Sprint(p.Type)
		if len(p.Enum) > 0 {
			takes = strings.Trim(strings.ReplaceAll(form.Text(p.Enum), ", ", " | "), " ")
		}
		filled, _, more := strings.Cut(form.Text(f.Values[name]), "\n")
		if more {
			filled += " …"
		}
		if name == shape.Pictures() {
			filled = Number(f.Pictures, "picture")
		}
		must := ""
		for _, r := range schema.Required {
			if r == name {
				must = "must"
			}
		}
		t.Row(Tame(name), must, Tame(takes), Tame(filled))
	}
	fmt.Fprintln(w, t)
	for _, p := range f.Missing {
		fmt.Fprintf(w, "Still to be filled in: %s\n", Tame(strings.TrimSpace(p.Field+" "+p.Message)))
	}
	if f.Defect != nil {
		fmt.Fprintln(w, "\nThe cause has a defect already:")
		Defect(w, *f.Defect)
	}
	for _, d := range f.Like {
		fmt.Fprintf(w, "It may be %s %s, %s (%s)\n", Tame(d.Key), Tame(d.Title), Tame(d.Status), Tame(d.Why))
	}
	if f.Trouble != "" {
		fmt.Fprintln(w, Tame(f.Trouble))
	}
	return nil
}
