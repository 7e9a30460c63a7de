package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/core/calendar"
	"parallelpane/internal/core/fleet"
)

// maxPreview bounds the occurrences of a preview.
const maxPreview = 10_000

func (r *root) scheduleCmd() *cobra.Command {
	var start, zone string
	var count int
	cmd := &cobra.Command{Use: "schedule", Short: "Run presets again and again, and see when"}
	preview := &cobra.Command{
		Use:   "preview RULE",
		Short: "List the next occurrences of a recurrence rule",
		Long: `List when a recurrence rule occurs. RULE is as in RFC 5545 without its RRULE: prefix, for example
FREQ=WEEKLY;BYDAY=MO,FR. The wall clock of the start is kept across changes of the clocks.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			where, err := time.LoadLocation(zone)
			if err != nil {
				return usage("--zone: %q is not a time zone such as Europe/Berlin", zone)
			}
			from := time.Now().Truncate(time.Second)
			if start != "" {
				if from, err = time.Parse(time.RFC3339, start); err != nil {
					return usage("--start: expected a time such as 2026-03-02T06:30:00+01:00, found %q", start)
				}
			}
			if count < 1 || count > maxPreview {
				return usage("--count: expected 1 to %d, found %d", maxPreview, count)
			}
			return r.schedulePreview(args[0], from, where, count)
		},
	}
	preview.Flags().StringVar(&start, "start", "", "first moment, RFC 3339; the present if not given")
	preview.Flags().StringVar(&zone, "zone", "UTC", "time zone in which the wall clock is kept")
	preview.Flags().IntVar(&count, "count", 5, "how many occurrences")
	cmd.AddCommand(preview, r.scheduleAdd(), r.scheduleList(), r.scheduleChange("pause", "Pause a schedule"),
		r.scheduleChange("resume", "Let a paused schedule go on"), r.scheduleChange("remove", "Remove a schedule"), r.scheduleCalendar())
	return cmd
}

func (r *root) schedulePreview(rule string, start time.Time, zone *time.Location, count int) error {
	if c, is, err := fleet.ParseChange(rule); err != nil {
		return usage("%v", err)
	} else if is {
		return usage("%s: when that is nobody knows", c.Words())
	}
	parsed, err := calendar.Parse(rule, start, zone)
	if err != nil {
		return usage("%v", err)
	}
	times, err := parsed.First(count)
	if err != nil {
		return usage("%v", err)
	}
	if r.json {
		out := make([]string, len(times))
		for i, t := range times {
			out[i] = t.Format(time.RFC3339)
		}
		return r.writeJSON(map[string]any{"occurrences": out})
	}
	fmt.Fprintln(r.out, parsed.Words())
	for _, t := range times {
		fmt.Fprintln(r.out, "  "+t.Format("Mon 2 Jan 2006 15:04 -07:00"))
	}
	return nil
}
