package sessions

import (
	"fmt"
	"sync"
	"time"

	"parallelpane/internal/engine/box"
)

// watchEvery is how often a session is asked what it takes up.
const watchEvery = 2 * time.Second

// watch ends a session that takes up more than its limits, and says so. Its end
// ends the watching.
func (s *Session) watch(limits box.Limits, every time.Duration) {
	over := make(chan struct{})
	s.unwatch = append(s.unwatch, sync.OnceFunc(func() { close(over) }))
	s.watchers.Go(func() {
		t := time.NewTicker(every)
		defer t.Stop()
		for {
			select {
			case <-over:
				return
			case <-t.C:
			}
			if why := excess(s.box.Usage(), limits); why != nil {
				s.inst.Fail(why)
				return
			}
		}
	})
}

// excess says which limit is passed; nil when none is.
func excess(u box.Usage, l box.Limits) error {
	switch {
	case l.Resident > 0 && u.Memory > l.Resident:
		return fmt.Errorf("the session was ended: its programs took %d MB of memory, and may take %d", u.Memory>>20, l.Resident>>20)
	case l.Disk > 0 && u.Disk > l.Disk:
		return fmt.Errorf("the session was ended: its files came to %d MB, and may come to %d", u.Disk>>20, l.Disk>>20)
	}
	return nil
}
