package host

import (
	"context"

	"yamato/internal/host/yard"
)

// find takes in devices that come by themselves, and lets go of those that are gone for good. left are the leases that an
// earlier process has not cleaned such devices of.
func (h *Host) find(ctx context.Context, left map[string][]leftover) error {
	err := h.config.Yard.Find(ctx, func(f yard.Found) error {
		there := h.worker(f.Name)
		switch {
		case f.Came == nil && there != nil:
			h.let(f.Name, there)
		case f.Came != nil && there != nil: // it is known under that name: one of both is enough
			return f.Came.Close()
		case f.Came != nil:
			h.log.Info("a device was found", "device", f.Name, "model", f.Came.Describe().Model)
			h.employ(f.Came, left[f.Name]...)
			delete(left, f.Name)
			h.changed(f.Name)
		}
		return nil
	})
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// let lets go of a device: no lease is taken for it from here on, and the service is told that it is gone.
func (h *Host) let(name string, w *worker) {
	h.mu.Lock()
	delete(h.workers, name)
	h.mu.Unlock()
	w.end() // it lets go of the device
	h.mu.Lock()
	h.news.gone = append(h.news.gone, name)
	h.news.load = true
	h.news.wake()
	h.mu.Unlock()
}
