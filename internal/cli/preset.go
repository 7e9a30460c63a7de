package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/term"
)

func (r *root) presetCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "preset", Short: "Save a run request under a name, and run it"}
	var o runOptions
	save := &cobra.Command{
		Use: "save NAME [SUITE]", Short: "Save what pane run would do with these flags, in place of what was there", Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				o.req.Suite = args[1]
			}
			c, err := r.prepare(cmd.Context(), &o)
			if err != nil {
				return err
			}
			var p api.Preset
			if err := c.Call(cmd.Context(), "POST", "/presets", api.PresetRequest{Name: args[0], Request: o.req}, &p); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(p)
			}
			fmt.Fprintf(r.out, "Saved. Run it with: pane preset run %s\n", p.Name)
			return nil
		},
	}
	o.request(save)
	var text string
	list := &cobra.Command{
		Use: "list", Short: "List presets and who used them", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return r.presets(cmd.Context(), text) },
	}
	list.Flags().StringVar(&text, "text", "", "only presets in whose name, project, suite or matrix this is found")
	var attend runOptions
	run := &cobra.Command{
		Use: "run NAME", Short: "Start a run as a preset says", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			return r.start(cmd.Context(), c, "/presets/"+url.PathEscape(args[0])+"/run", nil, attend)
		},
	}
	attend.attendance(run)
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a preset that no schedule uses", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return r.remove(cmd.Context(), "/presets/"+url.PathEscape(args[0]), args[0])
		},
	}
	cmd.AddCommand(save, list, run, remove)
	return cmd
}

func (r *root) remove(ctx context.Context, path, name string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	if err := c.Call(ctx, "DELETE", path, nil, nil); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(map[string]string{"removed": name})
	}
	fmt.Fprintf(r.out, "%s is removed\n", name)
	return nil
}

func (r *root) presets(ctx context.Context, text string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	var all []api.Preset
	if err := c.Get(ctx, "/presets", &all); err != nil {
		return err
	}
	list := []api.Preset{}
	for _, p := range all {
		if strings.Contains(strings.Join([]string{p.Name, p.Project, p.Request.Suite, p.Request.Matrix}, " "), text) {
			list = append(list, p)
		}
	}
	if r.json {
		return r.writeJSON(list)
	}
	if len(all) == 0 {
		fmt.Fprintln(r.out, "No preset yet. Save one in a project's directory: pane preset save NAME, with the flags of pane run")
		return nil
	}
	t := term.NewTable("preset", "project", "suite", "matrix", "changed", "used")
	for _, p := range list {
		used := "never"
		if p.Used > 0 {
			used = fmt.Sprintf("%d times, last by %s as #%d %s", p.Used, p.LastBy, p.LastRun, humanize.Time(*p.LastAt))
		}
		t.Row(p.Name, p.Project, p.Request.Suite, p.Request.Matrix, p.ChangedBy+", "+humanize.Time(*p.ChangedAt), used)
	}
	fmt.Fprintln(r.out, t)
	return nil
}

func (r *root) quotaCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "quota", Short: "Bound and weigh what projects, owners and combinations may use"}
	req := api.QuotaRequest{}
	set := &cobra.Command{
		Use:   "set KIND NAME",
		Short: "Set the slots, or a project's weight",
		Long: `Set how many slots may be used at once, lab-wide. KIND is project, owner (the name of a token) or
combination (NAME is then values such as "browser=webkitgtk"). Projects share what is free by their weights.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			req.Kind, req.Name = dispatch.QuotaKind(args[0]), args[1]
			c, err := r.client()
			if err != nil {
				return err
			}
			var all []api.Quota
			if err := c.Call(cmd.Context(), "POST", "/quotas", req, &all); err != nil {
				return err
			}
			return r.writeQuotas(all)
		},
	}
	set.Flags().IntVar(&req.Slots, "slots", 0, "most slots at once; 0 means no bound")
	set.Flags().Float64Var(&req.Weight, "weight", 0, "of a project against the others; 0 means 1")
	list := &cobra.Command{
		Use: "list", Short: "List quotas and weights", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var all []api.Quota
			if err := c.Get(cmd.Context(), "/quotas", &all); err != nil {
				return err
			}
			return r.writeQuotas(all)
		},
	}
	remove := &cobra.Command{
		Use: "remove ID", Short: "Remove a quota", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return r.remove(cmd.Context(), "/quotas/"+url.PathEscape(args[0]), args[0])
		},
	}
	cmd.AddCommand(set, list, remove)
	return cmd
}

func (r *root) writeQuotas(all []api.Quota) error {
	if r.json {
		return r.writeJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(r.out, "No quota. Projects share the lab evenly; set one with: pane quota set project NAME --slots N")
		return nil
	}
	t := term.NewTable("id", "kind", "name", "slots", "weight")
	for _, q := range all {
		slots, weight := "no bound", "1"
		if q.Slots > 0 {
			slots = fmt.Sprint(q.Slots)
		}
		if q.Weight > 0 {
			weight = fmt.Sprintf("%g", q.Weight)
		}
		if q.Kind != dispatch.OfProject {
			weight = "–"
		}
		t.Row(q.ID, string(q.Kind), q.Name, slots, weight)
	}
	fmt.Fprintln(r.out, t)
	return nil
}

func (r *root) scheduleAdd() *cobra.Command {
	var req api.ScheduleRequest
	var until string
	var count int
	cmd := &cobra.Command{
		Use:   "add NAME PRESET RULE",
		Short: "Run a preset again and again",
		Long: `Run a preset when a rule occurs. RULE is as in RFC 5545 without its RRULE: prefix, for example
FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=6;BYMINUTE=30;BYSECOND=0. The wall clock is kept across changes of the clocks.
Or it is "when browser=chromium changes": whenever a version of that browser comes into the lab; with channel=beta only of that.`,
		Args: cobra.ExactArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			req.Name, req.Preset, req.Rule = args[0], args[1], args[2]
			if until != "" {
				t, err := time.Parse("2006-01-02", until)
				if err != nil {
					return usage("--until: expected a date such as 2026-12-31, found %q", until)
				}
				req.Rule += ";UNTIL=" + t.Format("20060102")
			}
			if count != 0 {
				req.Rule += fmt.Sprintf(";COUNT=%d", count)
			}
			c, err := r.client()
			if err != nil {
				return err
			}
			var s api.Schedule
			if err := c.Call(cmd.Context(), "POST", "/schedules", req, &s); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(s)
			}
			writeSchedule(r, s)
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&req.Start, "start", "", "first moment, RFC 3339; the present if not given")
	f.StringVar(&req.Zone, "zone", "UTC", "time zone in which the wall clock is kept")
	f.StringVar(&until, "until", "", "last day, such as 2026-12-31")
	f.IntVar(&count, "count", 0, "how many times at most")
	f.StringVar((*string)(&req.Missed), "missed", string(api.MissedRun), "when the service was down at the time: run (once) or skip")
	f.StringVar((*string)(&req.Overlap), "overlap", string(api.OverlapWait), "while the previous run goes on: wait, skip or cancel")
	cmd.MarkFlagsMutuallyExclusive("until", "count")
	return cmd
}

func writeSchedule(r *root, s api.Schedule) {
	state := ""
	if s.Paused {
		state = ", paused"
	}
	fmt.Fprintf(r.out, "%s runs %s %s%s\n", s.Name, s.Preset, s.Words, state)
	for _, t := range s.Next {
		zone, err := time.LoadLocation(s.Zone)
		if err == nil {
			t = t.In(zone)
		}
		fmt.Fprintln(r.out, "  "+t.Format("Mon 2 Jan 2006 15:04 -07:00"))
	}
	if s.LastNote != "" {
		fmt.Fprintln(r.out, "  "+term.Faint("last: "+s.LastNote))
	}
}

func (r *root) scheduleList() *cobra.Command {
	var text string
	cmd := &cobra.Command{
		Use: "list", Short: "List schedules with their next occurrences", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var all []api.Schedule
			if err := c.Get(cmd.Context(), "/schedules", &all); err != nil {
				return err
			}
			list := []api.Schedule{}
			for _, s := range all {
				if strings.Contains(s.Name+" "+s.Preset, text) {
					list = append(list, s)
				}
			}
			if r.json {
				return r.writeJSON(list)
			}
			if len(all) == 0 {
				fmt.Fprintln(r.out, "No schedule yet. Make one with: pane schedule add NAME PRESET RULE")
			}
			for _, s := range list {
				writeSchedule(r, s)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&text, "text", "", "only schedules in whose name or preset this is found")
	return cmd
}

// scheduleChange is pause, resume or remove.
func (r *root) scheduleChange(use, short string) *cobra.Command {
	return &cobra.Command{Use: use + " NAME", Short: short, Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		path := "/schedules/" + url.PathEscape(args[0])
		if use == "remove" {
			return r.remove(cmd.Context(), path, args[0])
		}
		c, err := r.client()
		if err != nil {
			return err
		}
		var s api.Schedule
		if err := c.Call(cmd.Context(), "POST", path+"/"+use, nil, &s); err != nil {
			return err
		}
		if r.json {
			return r.writeJSON(s)
		}
		writeSchedule(r, s)
		return nil
	}}
}

func (r *root) scheduleCalendar() *cobra.Command {
	return &cobra.Command{
		Use: "calendar [FILE]", Short: "Write the schedules as iCalendar", Args: cobra.MaximumNArgs(1),
		Long: `Write the coming occurrences as iCalendar (RFC 5545). A calendar program can subscribe to the same feed at
/api/v1/schedules.ics with any name and a viewer's token as the password.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return download(cmd.Context(), c, "/schedules.ics", args[0])
			}
			resp, err := c.Do(cmd.Context(), "GET", "/schedules.ics", nil)
			if err != nil {
				return err
			}
			defer resp.Body.Close()
			_, err = io.Copy(r.out, resp.Body)
			return err
		},
	}
}
