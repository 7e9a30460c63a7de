package api

import "time"

// At is a time on record, in milliseconds since 1970, as the API says it: nil for
// none.
func At(ms int64) *time.Time {
	if ms == 0 {
		return nil
	}
	t := time.UnixMilli(ms).UTC()
	return &t
}
