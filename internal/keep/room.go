package keep

import (
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/shirou/gopsutil/v4/disk"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/record"
)

const diskEvery = 5 * time.Second

// measure looks how full the disk is.
func (k *Keeper) measure() api.Storage {
	st := api.Storage{Need: k.minFree}
	u, err := disk.Usage(k.dir)
	if err != nil {
		return st // it is not known to be full
	}
	st.Free, st.Total = u.Free, u.Total
	if st.Free < st.Need {
		st.Full = fmt.Sprintf("The service's disk is nearly full (%s free, %s needed): no recordings are taken or kept until there is "+
			"room. Verdicts and steps are kept. pane sweep makes room; pane keep says for how long recordings stay.",
			humanize.IBytes(st.Free), humanize.IBytes(st.Need))
	}
	return st
}

// WatchDisk notes whether there is room, until stop is closed; changed is called
// when that changes.
func (k *Keeper) WatchDisk(stop <-chan struct{}, changed func()) {
	t := time.NewTicker(diskEvery)
	defer t.Stop()
	for {
		now := k.measure()
		was := k.storage.Swap(&now)
		if (was == nil || was.Full == "") != (now.Full == "") {
			k.log.Warn("room for recordings", "free", now.Free, "needed", now.Need, "full", now.Full != "")
			changed()
		}
		select {
		case <-stop:
			return
		case <-t.C:
		}
	}
}

// Storage says how much room there is.
func (k *Keeper) Storage() api.Storage {
	if st := k.storage.Load(); st != nil {
		return *st
	}
	return k.measure()
}

// Recorded is a policy as it can be had: nothing is recorded without room.
func (k *Keeper) Recorded(p record.Policy) record.Policy {
	if k.Storage().Full == "" {
		return p
	}
	off := record.Policy{}
	for _, k := range record.Kinds {
		off[k] = record.Never
	}
	return off
}

// Take stores contents that have come, at most limit bytes, if there is room; those
// that are here already stay for some time.
func (k *Keeper) Take(hash string, limit int64, r io.Reader) error {
	if !blobs.ValidHash(hash) {
		return api.Errorf(api.Invalid, "%q is not a SHA-256 in hexadecimal", hash)
	}
	if k.blobs.Renew(hash) {
		return nil
	}
	if full := k.Storage().Full; full != "" {
		return api.Errorf(api.NoRoom, "%s", full)
	}
	_, err := k.blobs.Put(hash, limit, r)
	large := &blobs.TooLarge{}
	switch {
	case errors.Is(err, blobs.ErrHash):
		return api.Errorf(api.Invalid, "refused: the bytes received do not have the hash %s", hash)
	case errors.As(err, &large):
		return api.Errorf(api.TooLarge, "refused: %v", large)
	}
	return err
}
