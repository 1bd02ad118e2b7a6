package host

import (
	"context"
	"fmt"
	"time"

	"github.com/shirou/gopsutil/v4/disk"

	"yamato/internal/core/fleet"
)

// leastRoom is what a host's disk must have free, in bytes, before it takes a lease.
const leastRoom = 64 << 20

// room is how a host's disk is. The host's lock guards it.
type room struct {
	stuck error // why the journal cannot be written
	low   bool
}

// watchRoom looks now and then how much room the host's disk has, and at once when the
// journal says so.
func (h *Host) watchRoom(ctx context.Context) {
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for {
		use, err := disk.UsageWithContext(ctx, h.config.Dir)
		stuck := h.journal.Failing()
		h.setRoom(func(r *room) {
			if r.stuck = stuck; err == nil {
				r.low = use.Free < leastRoom
			}
		})
		select {
		case <-tick.C:
		case <-h.journal.Turned:
		case <-ctx.Done():
			return
		}
	}
}

// setRoom has the service told of every device where the answer changes.
func (h *Host) setRoom(change func(*room)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	before := h.room.ready()
	change(&h.room)
	if h.room.ready() == before {
		return
	}
	for name := range h.workers {
		h.news.devices[name] = true
	}
	h.news.wake()
}

func (r room) ready() bool { return r.stuck == nil && !r.low }

// check is what keeps every device of the host from being used, nil where there is room.
func (r room) check(host, dir string) *fleet.Check {
	if r.ready() {
		return nil
	}
	why := fmt.Sprintf("the disk of its host %s has less than %d MB free", host, leastRoom>>20)
	if r.stuck != nil {
		why = fmt.Sprintf("the disk of its host %s takes no more", host)
	}
	return &fleet.Check{ID: "host-room", Title: "There is room on its host", Why: why,
		Remedy: "free some on the disk that holds " + dir + "; the host goes on by itself"}
}
