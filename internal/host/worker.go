package host

import (
	"context"
	"errors"
	"reflect"
	"slices"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
	"yamato/internal/host/gather"
	"yamato/internal/host/journal"
	"yamato/internal/killpoint"
	"yamato/internal/link"
)

// worker drives one device, one lease after the other, and carries out errands
// between them.
type worker struct {
	host    *Host
	device  driver.Device
	leases  chan *holding
	wishes  chan wish
	errands chan link.Errand
	end     context.CancelFunc // ends it alone
	app     string             // id of the app under test
	look    func()             // takes a picture of the case under way if the screen has changed

	gathering *gather.Gathering // of the case under way, nil where there is none
	left      []leftover        // leases of an earlier process that it has not been cleaned of

	// How the device is, as last seen. The host's lock guards it.
	seen fleet.Condition
	busy bool
	up   bool // it takes memory of the host
}

// work brings the device up, carries out leases and errands until ctx ends, and
// lets go of the device.
func (w *worker) work(ctx context.Context) {
	defer func() { _ = w.device.Close() }()
	w.begin(ctx)
	var noticed <-chan struct{}
	if n, ok := device.As[device.Noticing](w.device); ok {
		noticed = n.Noticed()
	}
	for {
		select {
		case held := <-w.leases:
			w.setBusy(true)
			w.carryOut(ctx, held)
			w.setBusy(false)
		case one := <-w.wishes:
			_ = contain.Do("a look at a device", func() error { w.show(ctx, one, true); return nil })
		case e := <-w.errands:
			w.setBusy(true)
			_ = contain.Do("an errand", func() error { w.errand(ctx, e); return nil })
			w.setBusy(false)
		case <-noticed:
			_ = contain.Do("a look after a device", func() error { w.refresh(ctx); return nil })
		case <-ctx.Done():
			return
		}
	}
}

// carryOut runs the attempt of a lease, ends it, and cleans the device. The word
// that the device is clean is the last about the lease.
func (w *worker) carryOut(ctx context.Context, held *holding) {
	h := w.host
	lease := held.lease.Number
	job, err := jobOf(held.lease)
	defer context.AfterFunc(ctx, func() { held.end(errLetGo) })()
	if err == nil {
		err = contain.Do("a lease", func() error { return job.run(held.ctx, w) })
	}
	if ctx.Err() != nil {
		return // the host stops; its next start ends the lease
	}
	finished := &link.Finished{}
	var own *device.Trouble
	if err != nil {
		finished.Trouble, finished.Device = err.Error(), errors.As(err, &own)
		if cause := context.Cause(held.ctx); cause != nil {
			finished.Trouble, finished.Device = cause.Error(), false
		}
		h.log.Info("a lease met trouble", "lease", lease, "holder", held.lease.Holder, "device", held.lease.Device,
			"trouble", finished.Trouble)
	}
	killpoint.Pass("cleaning")
	clean := w.clean(ctx, held.lease)
	if s, ok := job.(*session); ok && clean.Trouble == "" && !clean.Later {
		clean.Items = s.undone()
	}
	if clean.Condition != nil && finished.Trouble != "" {
		if r, bad := fleet.Unready(clean.Condition.Checks); bad { // whatever went wrong before, this is why
			finished.Device, finished.Trouble = true, (&device.Trouble{Why: r.Why, Remedy: r.Remedy.String()}).Error()
		}
	}
	var broken *bootFailure
	if errors.As(err, &broken) {
		clean.Broken = w.remains(ctx, broken)
	}
	w.app = ""
	if ctx.Err() != nil {
		return
	}
	if err := h.journal.Append(link.Event{Lease: lease, Finished: finished},
		link.Event{Lease: lease, Clean: clean}); err != nil {
		h.log.Error("the end of a lease could not be kept", "lease", lease, "error", err)
	}
	h.release(lease)
}

// errLetGo ends an attempt whose device is driven no more.
var errLetGo = errors.New("its device was removed, or its host stops")

// clean undoes what a lease did, and tells how the device is since, where that has
// changed. A device that is out of reach is cleaned as soon as it is back.
func (w *worker) clean(ctx context.Context, l link.Lease) *link.Clean {
	level := driver.CleanApp
	switch {
	case l.Leave:
		level = driver.CleanNothing
	case l.Session != nil && l.Session.Cleaning != "":
		level = driver.Cleaning(l.Session.Cleaning)
	}
	err := w.device.Clean(ctx, w.atMost(level), l.Apps...)
	before := w.seenAs()
	now := w.condition(ctx)
	out := &link.Clean{}
	if _, bad := fleet.Unready(now.Checks); err != nil && bad {
		out.Later = true
		w.host.stains.Add(w.name(), l.Apps)
		now.Checks = append(now.Checks, unclean(err))
	} else if err != nil {
		out.Trouble = err.Error()
	}
	if !reflect.DeepEqual(before, now) {
		w.note(now)
		out.Condition = &now
	}
	return out
}

// atMost bounds cleaning: a person's own device never gets more than the app.
func (w *worker) atMost(level driver.Cleaning) driver.Cleaning {
	if level == driver.CleanDevice && w.device.Describe().Owner != "" {
		return driver.CleanApp
	}
	return level
}

// condition sees how the device is.
func (w *worker) condition(ctx context.Context) fleet.Condition {
	c := fleet.Condition{Power: fleet.PowerUp}
	if v, ok := device.As[device.Virtual](w.device); ok && !v.Up() {
		return fleet.Condition{Power: fleet.PowerHalted}
	}
	if d, ok := device.As[device.Healthy](w.device); ok {
		health, err := d.Health(ctx)
		if err != nil {
			gone := false
			health = fleet.Health{Connected: &gone}
		}
		c.Checks = fleet.Readiness(w.device.Describe(), health)
	}
	if d, ok := device.As[device.Holding](w.device); ok {
		c.Installed, _ = d.Installed(ctx) // what cannot be told now is told later
	}
	return c
}

// refresh sees how the device is and tells the service where that has changed. A
// device that is back in reach is cleaned of its last lease first.
func (w *worker) refresh(ctx context.Context) {
	now := w.condition(ctx)
	if apps, stained := w.host.stains.Of(w.name()); stained && now.Power != fleet.PowerHalted {
		err := errOutOfReach
		if _, bad := fleet.Unready(now.Checks); !bad {
			err = w.device.Clean(ctx, driver.CleanApp, apps...)
		}
		if err != nil {
			now.Checks = append(now.Checks, unclean(err))
		} else {
			w.host.stains.Remove(w.name())
			now = w.condition(ctx)
		}
	}
	w.note(now)
}

var errOutOfReach = errors.New("it has not been in reach since")

// unclean is what keeps a device from being used that could not be cleaned.
func unclean(err error) fleet.Check {
	return fleet.Check{ID: "clean", Title: "What the last run left is gone",
		Why:    "it could not be cleaned: " + err.Error(),
		Remedy: "take the app under test off it by hand, then check again"}
}

// leftover is a lease that an earlier process of this host began, and whose device has not
// been cleaned of it.
type leftover journal.Lease

// end is the word that ends it, unless that has been said.
func (l leftover) end() []link.Event {
	if l.Finished {
		return nil
	}
	return []link.Event{{Lease: l.Number, Finished: &link.Finished{Trouble: errRestart.Error()}}}
}

// endLeftovers ends what an earlier process was killed in. It may wait for room on the disk.
func (w *worker) endLeftovers() {
	for _, l := range w.left {
		if err := w.host.journal.Append(l.end()...); err != nil {
			w.host.log.Error("the end of a lease could not be kept", "lease", l.Number, "error", err)
		}
	}
}

// cleanLeftovers cleans the device of leases that an earlier process was killed in, and
// says so of each. Nobody says that a device is clean but who has cleaned it.
func (w *worker) cleanLeftovers(ctx context.Context) {
	for _, l := range w.left {
		clean := w.clean(ctx, link.Lease{Number: l.Number, Apps: l.Apps})
		if ctx.Err() != nil {
			return // the next start cleans it
		}
		if err := w.host.journal.Append(link.Event{Lease: l.Number, Clean: clean}); err != nil {
			w.host.log.Error("the end of a lease could not be kept", "lease", l.Number, "error", err)
		}
	}
	w.left = nil
}

// name is the device's.
func (w *worker) name() string { return w.device.Describe().Name }

// note keeps how the device is, and has the service told where that has changed.
func (w *worker) note(c fleet.Condition) {
	h := w.host
	h.mu.Lock()
	changed := !reflect.DeepEqual(w.seen, c)
	w.seen, w.up = c, c.Power != fleet.PowerHalted
	h.mu.Unlock()
	if changed {
		h.changed(w.name())
	}
}

// seenAs gives how the device was seen last.
func (w *worker) seenAs() fleet.Condition {
	w.host.mu.Lock()
	defer w.host.mu.Unlock()
	return w.seen
}

func (w *worker) setBusy(busy bool) {
	w.host.mu.Lock()
	defer w.host.mu.Unlock()
	w.busy = busy
}

// declared is the device as the service is told of it. The caller holds the lock.
func (w *worker) declared(uncleaned map[string]int64) link.Device {
	f := w.device.Describe()
	condition := w.seen
	if c := w.host.room.check(w.host.config.Name, w.host.config.Dir); c != nil {
		condition.Checks = append(slices.Clip(condition.Checks), *c)
	}
	return link.Device{Device: f, Lease: uncleaned[f.Name], Condition: condition}
}

// employ begins to drive a device.
func (h *Host) employ(d driver.Device, left ...leftover) *worker {
	ctx, end := context.WithCancel(h.life)
	w := &worker{host: h, device: d, leases: make(chan *holding, 4), wishes: make(chan wish, 8),
		errands: make(chan link.Errand, 8), left: left, end: end}
	if v, ok := device.As[device.Virtual](d); ok {
		if w.seen = (fleet.Condition{Power: fleet.PowerHalted}); !v.Up() && !h.startsHalted(d.Describe().Name) {
			w.seen = fleet.Condition{Power: fleet.PowerBooting}
		}
	} else if _, ok := device.As[device.Healthy](d); ok ||
		len(left) > 0 { // nothing is to run on it before it has been looked at
		w.seen.Checks = []fleet.Check{{ID: "seen", Title: "It has been looked at",
			Why:    "its host has not looked at it yet",
			Remedy: "wait a moment"}}
	}
	h.mu.Lock()
	h.workers[d.Describe().Name] = w
	h.mu.Unlock()
	h.jobs.Go(func() error {
		defer end()
		w.work(ctx)
		h.leave(d.Describe().Name)
		return nil
	})
	return w
}

// leave ends the leases of a device that is driven no more, begun or not. Where the host
// as a whole stops, its next start ends them.
func (h *Host) leave(device string) {
	if h.life.Err() != nil {
		return
	}
	h.mu.Lock()
	var left []int64
	for n, held := range h.held {
		if held.lease.Device == device {
			left = append(left, n)
		}
	}
	h.mu.Unlock()
	for _, n := range left {
		h.release(n)
		h.turnAway(n, "its device was removed")
	}
}

func (h *Host) worker(name string) *worker {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.workers[name]
}
