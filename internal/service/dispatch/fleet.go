package dispatch

import (
	"context"
	"errors"
	"time"

	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// keepFleet keeps what has changed at a host's site.
func (n *session) keepFleet(ctx context.Context, f link.Fleet) {
	err := n.service.Store.InTx(ctx, func(t *store.Tx) error {
		if err := t.Hosts.Tell(ctx, n.host, f.Offer, f.Load); err != nil {
			return err
		}
		names := append([]string{}, f.Gone...)
		for _, d := range f.Devices {
			names = append(names, d.Name)
		}
		ids, err := n.putDevices(ctx, t.Devices, f.Devices, names)
		if err != nil {
			return err
		}
		if len(f.Gone) > 0 {
			if err := t.Devices.RemoveDevices(ctx, n.host, f.Gone); err != nil {
				return err
			}
		}
		return t.MarkDirty(ctx, store.DirtyDevice, ids)
	})
	if err != nil {
		n.service.Log.Warn("what has changed at a site could not be kept; its host says it again when it links anew",
			"error", err)
		if ctx.Err() == nil {
			n.close(err)
		}
		return
	}
	n.service.Bell.Ring()
}

// keepDone keeps how an errand ended. A device that was given up is sidelined; one
// that a probe finds well again is brought back.
func (n *session) keepDone(ctx context.Context, d link.Done) error {
	d.Trouble, d.Remedy = base.Short(d.Trouble, 1000), base.Short(d.Remedy, 1000)
	s := n.service
	err := s.Store.InTx(ctx, func(t *store.Tx) error {
		e := store.Errand{Device: d.Device}
		if d.ID != 0 {
			var err error
			if e, err = t.Hosts.KeepDone(ctx, n.host, d); err != nil {
				return err
			}
		}
		if e.Device == "" {
			return nil
		}
		device, err := t.Devices.DeviceOfHost(ctx, n.host, e.Device)
		if errors.Is(err, pg.ErrNone) {
			return nil // it was removed
		}
		if err != nil {
			return err
		}
		switch {
		case e.What == link.DoProbe && device.Sideline == nil &&
			d.Trouble != "": // tried out since an app met trouble on it
			side := store.Sideline{By: base.Automatic, Automatic: true, At: time.Now().UTC(),
				Reason: base.Short("it met trouble, and did not work when it was tried out: "+d.Trouble, 500),
				Broken: d.Broken}
			at := side.At.Add(s.Config.ProbeEvery)
			side.ProbeAt = &at
			return base.SidelineDevice(ctx, t.Devices, device.ID, side)
		case e.What == link.DoProbe && (device.Sideline == nil || !device.Sideline.V.Automatic):
			return nil // it works, or a person has decided meanwhile
		case e.What == link.DoProbe && d.Trouble == "":
			return base.RestoreDevice(ctx, t.Devices, device.ID)
		case e.What == link.DoProbe:
			side := device.Sideline.V
			side.Probes++
			at := time.Now().UTC().Add(s.Config.ProbeEvery << min(side.Probes, 6))
			side.ProbeAt = &at
			return t.Devices.SetSideline(ctx, device.ID, side)
		case d.Broken != nil && device.Sideline == nil:
			side := store.Sideline{By: base.Automatic, Automatic: true, At: time.Now().UTC(),
				Reason: base.Short(d.Broken.Diagnosis, 500), Broken: d.Broken}
			at := side.At.Add(s.Config.ProbeEvery)
			side.ProbeAt = &at
			return base.SidelineDevice(ctx, t.Devices, device.ID, side)
		}
		return nil
	})
	if errors.Is(err, pg.ErrNone) || pg.Hopeless(err) { // it had ended before, or never will
		s.Log.Warn("how an errand ended is not kept", "errand", d.ID, "error", err)
		err = nil
	}
	if err != nil {
		return err
	}
	if number := d.Number(); number != 0 {
		n.send(link.ToHost{Heard: []int64{number}})
	}
	s.Bell.Ring()
	return nil
}

// sendErrands passes on what the host is asked to do and has not been told on this link.
func (n *session) sendErrands(ctx context.Context) error {
	list, err := n.service.Store.WantedErrands(ctx, n.host)
	if err != nil {
		return err
	}
	var m link.ToHost
	open := map[int64]bool{}
	for _, e := range list {
		if open[e.ID] = true; !n.asked[e.ID] {
			m.Do = append(m.Do, link.Errand{ID: e.ID, What: e.What, Device: e.Device, Args: e.Args.V})
		}
	}
	n.asked = open
	if len(m.Do) > 0 {
		n.send(m)
	}
	return nil
}
