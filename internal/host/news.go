package host

import (
	"context"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/mem"

	"yamato/internal/link"
)

// news is what the service is to be told of the fleet: what has changed since it
// was told last. The host's lock guards it.
type news struct {
	ring    chan struct{}
	devices map[string]bool
	gone    []string
	offer   bool
	load    bool
	done    []link.Done    // answers that the service has not kept yet
	said    int            // how many of them this link has been told
	own     int64          // how many words nobody asked for
	errands map[int64]bool // in hand, or done
	open    map[int64]bool // in hand
	machine link.Load      // as it was weighed last
}

func newNews() news {
	return news{ring: make(chan struct{}, 1), devices: map[string]bool{}, errands: map[int64]bool{},
		open: map[int64]bool{}}
}

func (n *news) wake() {
	select {
	case n.ring <- struct{}{}:
	default:
	}
}

// take notes an errand, false where it was taken before.
func (n *news) take(mu *sync.Mutex, id int64) bool {
	mu.Lock()
	defer mu.Unlock()
	if n.errands[id] {
		return false
	}
	n.errands[id], n.open[id] = true, true
	if len(n.errands) > mostErrands {
		n.forget()
	}
	return true
}

// mostErrands bounds how many errands are known to have been taken, in hand or done.
const mostErrands = 10_000

// forget lets go of the older half of the errands that are done. Only a service that read its list before it heard the
// answer could ask for one again, and what it reads is a moment old at most. What is in hand is never forgotten. The
// caller holds the lock.
func (n *news) forget() {
	ids := slices.Sorted(maps.Keys(n.errands))
	for _, id := range ids[:len(ids)/2] {
		if !n.open[id] {
			delete(n.errands, id)
		}
	}
}

// hand gives the errands in hand. The caller holds the lock.
func (n *news) hand() []int64 {
	var out []int64
	for id := range n.open {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// changed has the service told how a device is.
func (h *Host) changed(device string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.news.devices[device], h.news.load = true, true
	h.news.wake()
}

func (h *Host) offerChanged() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.news.offer = true
	h.news.wake()
}

// answer tells how an errand ended. Without an id it tells of a device, by name,
// that nobody had asked about.
func (h *Host) answer(d link.Done, device string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if d.Device = device; d.ID == 0 {
		h.news.own++
		d.Own = h.news.own
	}
	h.news.done = append(h.news.done, d)
	h.news.wake()
}

// tell passes on what is new, for as long as the link holds. Answers come after the
// news of the devices that they are about.
func (h *Host) tell(ctx context.Context, conn link.Conn) error {
	for {
		fleet, done := h.fresh()
		if fleet != nil {
			if err := conn.Send(ctx, link.FromHost{Fleet: fleet}); err != nil {
				return err
			}
		}
		for _, d := range done {
			if err := conn.Send(ctx, link.FromHost{Done: &d}); err != nil {
				return err
			}
		}
		select {
		case <-h.news.ring:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// fresh takes what is new. Answers, and what nobody asked about, stay until the service says that it has kept them.
func (h *Host) fresh() (*link.Fleet, []link.Done) {
	h.mu.Lock()
	defer h.mu.Unlock()
	n := &h.news
	done := slices.Clone(n.done[n.said:])
	n.said = len(n.done)
	if len(n.devices) == 0 && len(n.gone) == 0 && !n.offer && !n.load {
		return nil, done
	}
	out := &link.Fleet{Gone: n.gone}
	uncleaned := h.uncleaned()
	for name := range n.devices {
		if w := h.workers[name]; w != nil {
			out.Devices = append(out.Devices, w.declared(uncleaned))
		}
	}
	if n.offer {
		out.Offer = h.offer()
	}
	if n.load {
		out.Load = h.load()
	}
	clear(n.devices)
	n.gone, n.offer, n.load = nil, false, false
	return out, done
}

// again has a new link told all that has not been kept.
func (n *news) again(mu *sync.Mutex) {
	mu.Lock()
	defer mu.Unlock()
	n.said = 0
	n.wake()
}

// heard forgets answers that the service has kept.
func (n *news) heard(mu *sync.Mutex, ids []int64) {
	if len(ids) == 0 {
		return
	}
	mu.Lock()
	defer mu.Unlock()
	kept := n.done[:0]
	for i, d := range n.done {
		switch {
		case !slices.Contains(ids, d.Number()):
			kept = append(kept, d)
		case i < n.said:
			n.said--
		}
	}
	n.done = kept
	for _, id := range ids {
		delete(n.open, id)
	}
}

// offer and load describe the site and what is taken of it. The caller holds the lock.
func (h *Host) offer() *link.Offer {
	if h.config.Yard == nil {
		return nil
	}
	o := h.config.Yard.Offer()
	return &o
}

func (h *Host) load() *link.Load {
	if h.config.Yard == nil {
		return nil
	}
	l := h.news.machine
	l.Running = h.running()
	return &l
}

// weigh looks now and then how much of the machine is in use, and tells where that
// has changed by more than a little.
func (h *Host) weigh(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
			share := 0.0
			if busy, err := cpu.PercentWithContext(ctx, 0, false); err == nil && len(busy) == 1 {
				share = math.Round(busy[0]) / 100
			}
			count, _ := cpu.CountsWithContext(ctx, true)
			h.weighed(link.Load{UsedMB: int(m.Used >> 20), TotalMB: int(m.Total >> 20), CPU: share, CPUs: count})
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (h *Host) weighed(now link.Load) {
	h.mu.Lock()
	defer h.mu.Unlock()
	before := h.news.machine
	if math.Abs(now.CPU-before.CPU) < 0.05 && max(now.UsedMB-before.UsedMB, before.UsedMB-now.UsedMB) < 256 {
		return
	}
	h.news.machine, h.news.load = now, true
	h.news.wake()
}
