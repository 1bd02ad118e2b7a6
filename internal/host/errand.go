package host

import (
	"context"
	"errors"
	"fmt"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

// errand carries out what somebody wants done to the device.
func (w *worker) errand(ctx context.Context, e link.Errand) {
	done := link.Done{ID: e.ID}
	err := w.perform(ctx, e)
	var broken *bootFailure
	if errors.As(err, &broken) {
		done.Broken = w.remains(ctx, broken)
	}
	if err != nil {
		done.Trouble = err.Error()
		var own *device.Trouble
		if errors.As(err, &own) {
			done.Trouble, done.Remedy = own.Why, own.Remedy
		}
	}
	if ctx.Err() == nil {
		w.refresh(ctx)
	}
	w.host.answer(done, "")
}

func (w *worker) perform(ctx context.Context, e link.Errand) error {
	v, virtual := device.As[device.Virtual](w.device)
	switch {
	case e.What == link.DoCheck:
		w.refresh(ctx)
		return nil
	case e.What == link.DoDeed:
		if d, ok := device.As[device.Imitating](w.device); ok {
			return d.Deed(ctx, e.Args.Deed, e.Args.Count)
		}
		return &device.Trouble{Why: "its driver imitates no hands", Remedy: "do it on the device itself"}
	case e.What == link.DoProbe && virtual:
		if err := v.Halt(ctx); err != nil {
			return err
		}
		if err := w.bringUp(ctx, v, false); err != nil {
			return err
		}
		return w.tryOut(ctx)
	case e.What == link.DoProbe:
		return w.tryOut(ctx)
	case !virtual:
		return &device.Trouble{Why: "it is no virtual device", Remedy: ""}
	case e.What == link.DoBoot:
		if r, ok := w.host.takeRoom(w); !ok { // others may have been booted since it was asked
			return &device.Trouble{Why: r.Why, Remedy: r.Remedy.String()}
		}
		return w.bringUp(ctx, v, w.host.onWall())
	case e.What == link.DoHalt:
		return v.Halt(ctx)
	case e.What == link.DoEmpty:
		wasUp := v.Up()
		if err := v.Empty(ctx); err != nil || !wasUp {
			return err
		}
		return w.bringUp(ctx, v, w.host.onWall())
	}
	return fmt.Errorf("this host does not know how to %s", e.What)
}

// tryOut sees whether a device that was sidelined would serve again.
func (w *worker) tryOut(ctx context.Context) error {
	if r, bad := fleet.Unready(w.condition(ctx).Checks); bad {
		return &device.Trouble{Why: r.Why, Remedy: r.Remedy.String()}
	}
	if err := w.device.Ready(ctx, driver.Terms{}); err != nil {
		return err
	}
	apps, _ := w.host.stains.Of(w.name())
	if err := w.device.Clean(ctx, driver.CleanApp, apps...); err != nil {
		return err
	}
	_, err := w.device.Tree(ctx)
	return err
}

// do takes in what the service asks for. What was asked before is not begun twice.
func (h *Host) do(list []link.Errand) {
	for _, e := range list {
		if !h.news.take(&h.mu, e.ID) {
			continue
		}
		switch e.What {
		case link.DoMake, link.DoFetch:
			h.jobs.Go(func() error {
				_ = contain.Do("an errand",
					func() error { h.site(h.life, e); return nil })
				return nil
			})
			continue
		case link.DoRemove:
			h.jobs.Go(func() error {
				_ = contain.Do("an errand",
					func() error { h.remove(e); return nil })
				return nil
			})
			continue
		}
		w := h.worker(e.Device)
		if w == nil {
			h.answer(link.Done{ID: e.ID, Trouble: "this host has no device " + e.Device}, "")
			continue
		}
		select {
		case w.errands <- e:
		default:
			h.answer(link.Done{ID: e.ID, Trouble: "too much is asked of it already",
				Remedy: "try again when that is done"}, "")
		}
	}
}

// site makes a virtual device, or fetches an OS image.
func (h *Host) site(ctx context.Context, e link.Errand) {
	done := link.Done{ID: e.ID}
	if h.config.Yard == nil {
		done.Trouble = "this host makes no virtual devices"
		h.answer(done, "")
		return
	}
	if e.What == link.DoFetch {
		if err := h.config.Yard.Fetch(ctx, e.Args.Image, h.offerChanged); err != nil {
			done.Trouble = err.Error()
		}
		h.offerChanged()
		h.answer(done, "")
		return
	}
	d, err := h.config.Yard.Make(e.Device, e.Args.Model, e.Args.Image)
	if err != nil {
		done.Trouble = err.Error()
		h.answer(done, "")
		return
	}
	w := h.employ(d)
	h.changed(e.Device)
	if !e.Args.Boot {
		h.answer(done, "")
		return
	}
	w.errands <- link.Errand{ID: e.ID, What: link.DoBoot, Device: e.Device} // its own queue, and empty
}

// remove takes a virtual device away that was made here, or leaves one of the site
// file out.
func (h *Host) remove(e link.Errand) {
	done := link.Done{ID: e.ID}
	w := h.worker(e.Device)
	if w == nil || h.config.Yard == nil {
		done.Trouble = "this host has no such virtual device"
		h.answer(done, "")
		return
	}
	if err := h.config.Yard.Remove(e.Device, w.device); err != nil {
		done.Trouble = err.Error()
		h.answer(done, "")
		return
	}
	h.let(e.Device, w)
	h.answer(done, "")
}
