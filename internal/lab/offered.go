package lab

import (
	"time"

	"parallelpane/internal/store"
)

// Slots that agents offer are put on record this often; a gap that is much longer is a
// machine that slept.
const offeredEvery = time.Minute

// offered notes what agents offered since it was noted last.
func (lab *Lab) offered() {
	lab.mu.Lock()
	now := lab.now()
	since := now.Sub(lab.noted)
	if since >= 0 && since < offeredEvery {
		lab.mu.Unlock()
		return
	}
	lab.noted = now
	var batch []store.Stmt
	if since > 0 && since < 2*offeredEvery {
		for name, a := range lab.agents {
			if a.link != nil {
				batch = append(batch, store.Offered(name, store.Millis(now), int64(a.machine.Slots)*since.Milliseconds())...)
			}
		}
	}
	lab.mu.Unlock()
	if len(batch) > 0 {
		lab.store.Enqueue(batch...)
	}
}
