// Package calendar computes when a recurring thing occurs: RFC 5545 recurrence
// rules in a time zone. It reads no clock.
package calendar

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// Rule is a recurrence rule with its start and zone.
type Rule struct {
	source string
	option rrule.ROption
	start  time.Time // wall clock of the start, written as if it were UTC
	zone   *time.Location
	until  time.Time // last instant; zero for none
}

const (
	maxRule  = 1000    // characters
	maxCount = 100_000 // occurrences, since they can only be counted one by one
	// maxSeconds bounds those of a rule that occurs more than once a minute.
	maxSeconds = 1000
)

var known = []string{"FREQ", "UNTIL", "COUNT", "INTERVAL", "BYSECOND", "BYMINUTE", "BYHOUR", "BYDAY", "BYMONTHDAY",
	"BYYEARDAY", "BYWEEKNO", "BYMONTH", "BYSETPOS", "WKST"}

// Parse reads a rule as RFC 5545 section 3.3.10 has it, without "RRULE:".
// Occurrences keep the wall clock of start in the zone.
func Parse(rule string, start time.Time, zone *time.Location) (*Rule, error) {
	fail := func(format string, args ...any) (*Rule, error) {
		return nil, fmt.Errorf("rule %q: %s", rule, fmt.Sprintf(format, args...))
	}
	if len(rule) > maxRule {
		return nil, fmt.Errorf("the rule has more than %d characters", maxRule)
	}
	r := &Rule{source: rule, start: floating(start.In(zone)), zone: zone}
	var kept []string
	seen := map[string]bool{}
	for _, part := range strings.Split(strings.TrimSuffix(strings.ToUpper(rule), ";"), ";") {
		name, value, ok := strings.Cut(part, "=")
		switch {
		case !ok || value == "":
			return fail("expected NAME=VALUE parts, found %q", part)
		case !slices.Contains(known, name):
			return fail("unknown part %s; there are %s", name, strings.Join(known, ", "))
		case seen[name]:
			return fail("%s is given twice", name)
		}
		seen[name] = true
		if name == "UNTIL" {
			until, err := parseUntil(value, zone)
			if err != nil {
				return fail("%v", err)
			}
			r.until = until
			continue
		}
		kept = append(kept, part)
	}
	if !seen["FREQ"] {
		return fail("expected FREQ, such as FREQ=WEEKLY;BYDAY=MO,FR")
	}
	if seen["UNTIL"] && seen["COUNT"] {
		return fail("UNTIL and COUNT must not come together")
	}
	option, err := rrule.StrToROption(strings.Join(kept, ";"))
	if err != nil {
		return fail("%v", err)
	}
	if seen["INTERVAL"] && option.Interval < 1 || seen["COUNT"] && option.Count < 1 {
		return fail("INTERVAL and COUNT must be 1 or more")
	}
	if (option.Freq == rrule.SECONDLY || len(option.Bysecond) > 1) && (option.Count == 0 || option.Count > maxSeconds) {
		return fail("more often than once a minute only with a COUNT of at most %d", maxSeconds)
	}
	if option.Count > maxCount {
		return fail("COUNT must be %d or less", maxCount)
	}
	option.Dtstart = r.start
	if _, err := rrule.NewRRule(*option); err != nil {
		return fail("%v", err)
	}
	r.option = *option
	if !r.timeOfDayExists() {
		return fail("%v: its interval never meets its hours, minutes and seconds", ErrNever)
	}
	return r, nil
}

// timeOfDayExists reports whether a rule that counts hours or less can come to
// a time of day that it allows. The iterator would look for one for ever.
func (r *Rule) timeOfDayExists() bool {
	o := r.option
	unit, ok := map[rrule.Frequency]int{rrule.HOURLY: 3600, rrule.MINUTELY: 60, rrule.SECONDLY: 1}[o.Freq]
	if !ok {
		return true
	}
	const day = 86_400
	step := gcd(max(1, o.Interval)*unit, day) // it comes to every multiple of this, from its start on
	allows := func(list []int, value int) bool { return len(list) == 0 || slices.Contains(list, value) }
	for at := (r.start.Hour()*3600 + r.start.Minute()*60 + r.start.Second()) % step; at < day; at += step {
		// A finer BY part than the frequency only adds times, so it never empties the set.
		if allows(o.Byhour, at/3600) && (unit > 60 || allows(o.Byminute, at/60%60)) && (unit > 1 || allows(o.Bysecond, at%60)) {
			return true
		}
	}
	return false
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// parseUntil reads the last instant: UTC with a Z, else in the zone; a date
// means its whole day.
func parseUntil(s string, zone *time.Location) (time.Time, error) {
	if t, err := time.Parse("20060102T150405Z", s); err == nil {
		return t, nil
	}
	if t, err := time.Parse("20060102T150405", s); err == nil {
		return inZone(t, zone), nil
	}
	if t, err := time.Parse("20060102", s); err == nil {
		return inZone(t.AddDate(0, 0, 1), zone).Add(-time.Second), nil
	}
	return time.Time{}, fmt.Errorf("UNTIL: expected a time such as 20261231T235959Z, found %q", s)
}

// floating writes the wall clock of a time as if it were UTC.
func floating(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// inZone is the instant at which a wall clock is shown in a zone. A wall clock
// that a change of the clocks skips is read with the offset from before the
// change; one that it repeats means the first time (RFC 5545 section 3.3.5).
func inZone(wall time.Time, zone *time.Location) time.Time {
	_, before := wall.Add(-24 * time.Hour).In(zone).Zone()
	_, after := wall.Add(24 * time.Hour).In(zone).Zone()
	for _, offset := range []int{before, after} {
		if t := wall.Add(-time.Duration(offset) * time.Second).In(zone); floating(t).Equal(wall) {
			return t
		}
	}
	return wall.Add(-time.Duration(before) * time.Second).In(zone)
}

// ErrNever means that a rule has no occurrence at all.
var ErrNever = errors.New("the rule never occurs")

// near is the rule begun again at one of its own steps shortly before a time, so
// that what lies before need not be counted. Its phase stays, and with it every
// occurrence from two days before the time on.
func (r *Rule) near(t time.Time) rrule.ROption {
	o := r.option
	unit := map[rrule.Frequency]time.Duration{rrule.MINUTELY: time.Minute, rrule.HOURLY: time.Hour, rrule.DAILY: 24 * time.Hour,
		rrule.WEEKLY: 7 * 24 * time.Hour}[o.Freq]
	step := unit * time.Duration(max(1, o.Interval))
	if gap := floating(t.In(r.zone)).Sub(r.start) - 48*time.Hour; o.Count == 0 && step > 0 && gap > step {
		o.Dtstart = r.start.Add((gap/step - 1) * step)
	}
	return o
}

// After lists at most n occurrences later than a time, in order. It takes no longer
// for a rule that began long ago.
func (r *Rule) After(t time.Time, n int) ([]time.Time, error) {
	option := r.near(t)
	out, any, err := r.after(option, t, n)
	if err == nil && !any && !option.Dtstart.Equal(r.start) { // there may have been some before
		_, any, err = r.after(r.option, t, 0)
	}
	if err == nil && !any {
		err = fmt.Errorf("rule %q: %w from %s on", r.source, ErrNever, inZone(r.start, r.zone).Format(time.RFC3339))
	}
	return out, err
}

// after lists at most n occurrences later than a time; with n = 0 it only looks
// whether there is any at all. any says whether there is one, at whatever time.
func (r *Rule) after(option rrule.ROption, t time.Time, n int) (out []time.Time, any bool, err error) {
	rule, err := rrule.NewRRule(option)
	if err != nil {
		return nil, false, fmt.Errorf("rule %q: %w", r.source, err)
	}
	next := rule.Iterator()
	for len(out) < n || !any {
		wall, ok := next()
		if !ok {
			break
		}
		at := inZone(wall, r.zone)
		if !r.until.IsZero() && at.After(r.until) {
			break
		}
		any = true
		if len(out) < n && at.After(t) && (len(out) == 0 || at.After(out[len(out)-1])) {
			out = append(out, at)
		}
	}
	return out, any, nil
}

// First lists the first n occurrences; the start counts when the rule meets it.
func (r *Rule) First(n int) ([]time.Time, error) {
	return r.After(inZone(r.start, r.zone).Add(-time.Second), n)
}

var dayNames = []string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}

// Words says the rule in plain words: "every Monday and Friday at 06:30, Berlin
// time, until 30 June 2026". A rule too intricate for that is given as it is.
func (r *Rule) Words() string {
	o := r.option
	clock, fixed := r.timeOfDay()
	if !fixed || len(o.Bysetpos)+len(o.Byyearday)+len(o.Byweekno)+len(o.Bymonth) > 0 ||
		(len(o.Bymonthday) > 0 && o.Freq != rrule.MONTHLY) || (len(o.Byweekday) > 0 && o.Freq != rrule.WEEKLY) {
		return "by the rule " + r.source
	}
	unit := map[rrule.Frequency]string{rrule.YEARLY: "year", rrule.MONTHLY: "month", rrule.WEEKLY: "week", rrule.DAILY: "day",
		rrule.HOURLY: "hour", rrule.MINUTELY: "minute", rrule.SECONDLY: "second"}[o.Freq]
	every := "every " + unit
	if o.Interval > 1 {
		every = fmt.Sprintf("every %d %ss", o.Interval, unit)
	}
	switch {
	case o.Freq == rrule.WEEKLY && len(o.Byweekday) > 0:
		var days []string
		for _, d := range o.Byweekday {
			days = append(days, dayNames[d.Day()])
		}
		if o.Interval > 1 {
			every += " on " + list(days)
		} else {
			every = "every " + list(days)
		}
	case o.Freq == rrule.WEEKLY:
		every += " on " + r.start.Weekday().String()
	case o.Freq == rrule.MONTHLY && len(o.Bymonthday) > 0:
		var days []string
		for _, d := range o.Bymonthday {
			days = append(days, fmt.Sprint(d))
		}
		every += " on day " + list(days)
	case o.Freq == rrule.MONTHLY:
		every += fmt.Sprintf(" on day %d", r.start.Day())
	case o.Freq == rrule.YEARLY:
		every += " on " + r.start.Format("2 January")
	}
	if o.Freq <= rrule.DAILY {
		every += " at " + clock.Format("15:04")
	}
	every += ", " + r.zone.String() + " time"
	if o.Count > 0 {
		every += fmt.Sprintf(", %d times", o.Count)
	}
	if !r.until.IsZero() {
		every += ", until " + r.until.In(r.zone).Format("2 January 2006 15:04")
	}
	return every
}

// timeOfDay is the start with the hour and minute that the rule names, when it
// names at most one of each and leaves the second to the start or at 0.
func (r *Rule) timeOfDay() (clock time.Time, fixed bool) {
	o, clock := r.option, r.start
	if len(o.Byhour) > 1 || len(o.Byminute) > 1 || len(o.Bysecond) > 1 || (len(o.Bysecond) == 1 && o.Bysecond[0] != 0) {
		return clock, false
	}
	if o.Freq > rrule.DAILY {
		return clock, len(o.Byhour)+len(o.Byminute)+len(o.Bysecond) == 0
	}
	hour, minute := clock.Hour(), clock.Minute()
	if len(o.Byhour) == 1 {
		hour = o.Byhour[0]
	}
	if len(o.Byminute) == 1 {
		minute = o.Byminute[0]
	}
	return time.Date(clock.Year(), clock.Month(), clock.Day(), hour, minute, 0, 0, clock.Location()), true
}

// list joins words: "a, b and c".
func list(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
