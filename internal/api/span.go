package api

import "time"

// Span reads the bounds of a time, each a day such as 2026-11-23 or a time in RFC 3339,
// in milliseconds since 1970; 0 where there is none. A day at the end is included.
func Span(since, until string) (from, to int64, err error) {
	if from, err = moment("since", since, false); err == nil {
		to, err = moment("until", until, true)
	}
	return from, to, err
}

func moment(name, s string, endOfDay bool) (int64, error) {
	if s == "" {
		return 0, nil
	}
	if t, err := time.Parse(time.DateOnly, s); err == nil {
		if endOfDay {
			t = t.AddDate(0, 0, 1)
		}
		return t.UnixMilli(), nil
	}
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		return 0, Errorf(Invalid, "%s: expected a day such as 2026-11-23 or a time such as 2026-11-23T08:00:00Z, found %q", name, s)
	}
	return t.UnixMilli(), nil
}
