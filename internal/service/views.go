package service

import (
	"time"
)

// maxMissing bounds what a run's plan keeps.
const maxMissing = 200

// maxEventCells bounds the cells of one event.
const maxEventCells = 300

func at(ms int64) *time.Time {
	if ms == 0 {
		return nil
	}
	t := time.UnixMilli(ms).UTC()
	return &t
}
