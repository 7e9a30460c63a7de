package calendar

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func zone(t testing.TB, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func first(t *testing.T, rule, start, where string, n int) (out []string) {
	t.Helper()
	at, err := time.Parse(time.RFC3339, start)
	require.NoError(t, err)
	r, err := Parse(rule, at, zone(t, where))
	require.NoError(t, err)
	times, err := r.First(n)
	require.NoError(t, err)
	for _, x := range times {
		out = append(out, x.Format(time.RFC3339))
	}
	return out
}

func TestTheWallClockIsKeptAcrossAChangeOfClocks(t *testing.T) {
	assert.Equal(t, []string{"2026-03-27T06:30:00+01:00", "2026-03-30T06:30:00+02:00", "2026-04-03T06:30:00+02:00"},
		first(t, "FREQ=WEEKLY;BYDAY=MO,FR", "2026-03-27T05:30:00Z", "Europe/Berlin", 3))
	assert.Equal(t, []string{"2026-10-23T06:30:00+02:00", "2026-10-26T06:30:00+01:00"},
		first(t, "FREQ=WEEKLY;BYDAY=MO,FR", "2026-10-23T06:30:00+02:00", "Europe/Berlin", 2))
}

func TestSkippedAndRepeatedHours(t *testing.T) {
	assert.Equal(t, []string{"2026-03-28T02:30:00+01:00", "2026-03-29T03:30:00+02:00", "2026-03-30T02:30:00+02:00"},
		first(t, "FREQ=DAILY", "2026-03-28T02:30:00+01:00", "Europe/Berlin", 3), "02:30 is skipped on the 29th")
	assert.Equal(t, []string{"2026-10-24T02:30:00+02:00", "2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"},
		first(t, "FREQ=DAILY", "2026-10-24T02:30:00+02:00", "Europe/Berlin", 3), "02:30 comes twice on the 25th; the first counts")
}

func TestEnds(t *testing.T) {
	const start = "2026-01-01T06:30:00Z"
	assert.Len(t, first(t, "FREQ=DAILY;COUNT=3", start, "UTC", 10), 3)
	assert.Len(t, first(t, "FREQ=DAILY;UNTIL=20260103T063000Z", start, "UTC", 10), 3, "the last instant is included")
	assert.Len(t, first(t, "FREQ=DAILY;UNTIL=20260103T062959Z", start, "UTC", 10), 2)
	assert.Len(t, first(t, "FREQ=DAILY;UNTIL=20260103", start, "UTC", 10), 3, "a date means its whole day")
	assert.Equal(t, []string{"2026-01-30T10:00:00Z", "2026-02-27T10:00:00Z"}, first(t, "FREQ=MONTHLY;BYDAY=-1FR",
		"2026-01-01T10:00:00Z", "UTC", 2))
}

func TestHalfAYear(t *testing.T) {
	got := first(t, "FREQ=WEEKLY;BYDAY=MO,FR;UNTIL=20260701T000000Z", "2026-01-01T06:30:00+01:00", "Europe/Berlin", 100)
	assert.Len(t, got, 52)
	for _, at := range got {
		x, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		assert.Equal(t, "06:30", x.Format("15:04"))
		assert.Contains(t, []time.Weekday{time.Monday, time.Friday}, x.Weekday())
	}
}

func TestBadRules(t *testing.T) {
	for rule, want := range map[string]string{
		"":                              "expected NAME=VALUE",
		"BYDAY=MO":                      "expected FREQ",
		"FREQ=SOMETIMES":                "rule",
		"FREQ=DAILY;COLOUR=RED":         "unknown part COLOUR",
		"FREQ=DAILY;COUNT=0":            "must be 1 or more",
		"FREQ=DAILY;INTERVAL=0":         "must be 1 or more",
		"FREQ=DAILY;COUNT=1;COUNT=2":    "COUNT is given twice",
		"FREQ=DAILY;COUNT=1;UNTIL=2026": "UNTIL: expected a time",
		"FREQ=DAILY;COUNT=1;UNTIL=20260101T000000Z":   "must not come together",
		"FREQ=WEEKLY;BYDAY=XX":                        "rule",
		"FREQ=SECONDLY;INTERVAL=2;BYSECOND=1;COUNT=9": "the rule never occurs: its interval never meets",
		"FREQ=SECONDLY":                               "more often than once a minute only with a COUNT of at most 1000",
		"FREQ=SECONDLY;COUNT=1001":                    "only with a COUNT of at most 1000",
		"FREQ=MINUTELY;BYSECOND=0,1":                  "only with a COUNT of at most 1000",
		"FREQ=DAILY;COUNT=100001":                     "COUNT must be 100000 or less",
		"FREQ=HOURLY;INTERVAL=24;BYHOUR=5":            "the rule never occurs",
	} {
		_, err := Parse(rule, time.Unix(0, 0), time.UTC)
		assert.ErrorContains(t, err, want, rule)
	}
	r, err := Parse("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", time.Unix(0, 0), time.UTC)
	require.NoError(t, err)
	_, err = r.First(1)
	assert.ErrorIs(t, err, ErrNever)
}

func TestIntervalsThatMeetTheirHours(t *testing.T) {
	assert.Equal(t, []string{"2026-01-01T05:00:00Z", "2026-01-06T05:00:00Z"}, first(t, "FREQ=HOURLY;INTERVAL=5;BYHOUR=5",
		"2026-01-01T00:00:00Z", "UTC", 2))
	assert.Len(t, first(t, "FREQ=HOURLY;BYMINUTE=7", "2026-01-01T00:00:00Z", "UTC", 2), 2)
}

func TestWords(t *testing.T) {
	start := time.Date(2026, 3, 2, 6, 30, 0, 0, time.UTC)
	for rule, want := range map[string]string{
		"FREQ=WEEKLY;BYDAY=MO,WE,FR":                             "every Monday, Wednesday and Friday at 06:30, UTC time",
		"FREQ=WEEKLY;INTERVAL=2;BYDAY=TU":                        "every 2 weeks on Tuesday at 06:30, UTC time",
		"FREQ=WEEKLY":                                            "every week on Monday at 06:30, UTC time",
		"FREQ=DAILY;COUNT=3":                                     "every day at 06:30, UTC time, 3 times",
		"FREQ=MONTHLY;BYMONTHDAY=1,15":                           "every month on day 1 and 15 at 06:30, UTC time",
		"FREQ=HOURLY;INTERVAL=6":                                 "every 6 hours, UTC time",
		"FREQ=DAILY;UNTIL=20260401T000000Z":                      "every day at 06:30, UTC time, until 1 April 2026 00:00",
		"FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=7;BYMINUTE=5;BYSECOND=0": "every Monday and Friday at 07:05, UTC time",
		"FREQ=DAILY;BYHOUR=7,9":                                  "by the rule FREQ=DAILY;BYHOUR=7,9",
		"FREQ=HOURLY;BYMINUTE=5":                                 "by the rule FREQ=HOURLY;BYMINUTE=5",
		"FREQ=MONTHLY;BYDAY=-1FR":                                "by the rule FREQ=MONTHLY;BYDAY=-1FR",
	} {
		r, err := Parse(rule, start, time.UTC)
		require.NoError(t, err)
		assert.Equal(t, want, r.Words())
	}
}

func TestOccurrencesGrowAndAfterAgrees(t *testing.T) {
	zones := []*time.Location{time.UTC, zone(t, "Europe/Berlin"), zone(t, "America/New_York"), zone(t, "Australia/Lord_Howe")}
	rapid.Check(t, func(t *rapid.T) {
		start := time.Unix(rapid.Int64Range(1_700_000_000, 1_900_000_000).Draw(t, "start"), 0)
		rule := rapid.SampledFrom([]string{"FREQ=DAILY", "FREQ=HOURLY;INTERVAL=5", "FREQ=WEEKLY;BYDAY=SU,WE",
			"FREQ=MONTHLY;BYMONTHDAY=-1"}).Draw(t, "rule")
		r, err := Parse(rule, start, rapid.SampledFrom(zones).Draw(t, "zone"))
		require.NoError(t, err)
		all, err := r.First(40)
		require.NoError(t, err)
		require.Len(t, all, 40)
		for i := range all[1:] {
			require.True(t, all[i+1].After(all[i]))
		}
		rest, err := r.After(all[19], 20)
		require.NoError(t, err)
		require.Equal(t, all[20:], rest)
	})
}

func FuzzParse(f *testing.F) {
	f.Add("FREQ=WEEKLY;BYDAY=MO,FR;UNTIL=20260701T000000Z")
	f.Fuzz(func(t *testing.T, rule string) {
		r, err := Parse(rule, time.Unix(1_800_000_000, 0), time.UTC)
		if err == nil {
			_ = r.Words()
		}
	})
}

// Where a rule is begun again, later on, nothing changes but the time it takes.
func TestARuleThatBeganLongAgo(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	parts := []string{"", ";BYDAY=MO,FR", ";BYHOUR=6,18", ";BYMONTH=2,3", ";BYMONTHDAY=1,31", ";BYSETPOS=1;BYDAY=MO,TU",
		";WKST=SU;BYDAY=SU,MO"}
	rapid.Check(t, func(rt *rapid.T) {
		text := "FREQ=" + rapid.SampledFrom([]string{"MINUTELY", "HOURLY", "DAILY", "WEEKLY"}).Draw(rt, "freq") +
			fmt.Sprintf(";INTERVAL=%d", rapid.IntRange(1, 40).Draw(rt, "interval")) + rapid.SampledFrom(parts).Draw(rt, "more")
		start := time.Unix(rapid.Int64Range(1_700_000_000, 1_701_000_000).Draw(rt, "start"), 0)
		r, err := Parse(text, start, zone)
		if err != nil {
			return
		}
		at := start.Add(time.Duration(rapid.Int64Range(0, 100*24*3600).Draw(rt, "later")) * time.Second)
		want, any, err := r.after(r.option, at, 3)
		require.NoError(rt, err)
		got, err := r.After(at, 3)
		if !any {
			require.ErrorIs(rt, err, ErrNever)
			return
		}
		require.NoError(rt, err)
		require.Equal(rt, want, got, text)
	})
	r, err := Parse("FREQ=MINUTELY;UNTIL=20250101T000000Z", time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), time.UTC)
	require.NoError(t, err)
	none, err := r.After(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), 3)
	require.NoError(t, err, "it did occur")
	assert.Empty(t, none)
}
