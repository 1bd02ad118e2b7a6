package host

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image/png"
	"reflect"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/link"
)

// bootTime is the longest that a boot may take where the model says nothing.
const bootTime = time.Minute

// bootRemedy is what a person can do about a device that does not come up.
const bootRemedy = "read its boot log, make it anew, or give its model more time to boot"

// bootFailure is a virtual device that did not come up, whatever was tried.
type bootFailure struct {
	tried   []string
	log     []LogLine
	picture script.Picture // the last, nil where there was none
}

func (f *bootFailure) Error() string {
	return "it does not come up: " + strings.Join(f.tried, "; ") + ". It was given up"
}

// Unwrap makes it the device's own trouble.
func (f *bootFailure) Unwrap() error {
	return &Trouble{Why: f.Error(), Remedy: bootRemedy}
}

// begin brings the device up when the host starts, unless it is to stay off, and
// looks how it is.
func (w *worker) begin(ctx context.Context) {
	if v, ok := w.device.(Virtual); ok && !v.Up() && !w.host.startsHalted(w.device.Describe().Name) {
		var broken *bootFailure
		if err := w.bringUp(ctx, v, false); errors.As(err, &broken) {
			w.host.answer(link.Done{Broken: w.remains(ctx, broken)}, w.device.Describe().Name)
		}
	}
	w.refresh(ctx)
}

// bringUp boots a virtual device; where it does not come up, or its screen stays
// black, once more from power-off, then emptied.
func (w *worker) bringUp(ctx context.Context, v Virtual, realTime bool) error {
	failure := &bootFailure{}
	limit := w.host.bootTime(w.device.Describe().Model)
	for failed := 0; ; failed++ {
		step := fleet.NextBoot(failed)
		if step == fleet.BootGiveUp {
			failure.log = v.BootLog()
			_ = v.Halt(ctx) // what it does is of no use to anybody
			w.note(fleet.Condition{Power: fleet.PowerHalted})
			return failure
		}
		w.note(fleet.Condition{Power: fleet.PowerBooting, Doing: string(step)})
		err := w.tryBoot(ctx, v, step, limit, realTime, failure)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err == nil {
			w.note(fleet.Condition{Power: fleet.PowerUp})
			return nil
		}
		failure.tried = append(failure.tried, fmt.Sprintf("%s: %v", step, err))
		w.host.log.Warn("a device did not come up", "device", w.device.Describe().Name, "tried", step, "error", err)
	}
}

func (w *worker) tryBoot(ctx context.Context, v Virtual, step fleet.BootStep, limit time.Duration, realTime bool, failure *bootFailure) error {
	if step == fleet.BootPowerOff || step == fleet.BootEmptied {
		if err := v.Halt(ctx); err != nil {
			return fmt.Errorf("it could not be switched off: %w", err)
		}
	}
	if step == fleet.BootEmptied {
		if err := v.Empty(ctx); err != nil {
			return fmt.Errorf("it could not be emptied: %w", err)
		}
	}
	if err := v.Boot(ctx, limit, realTime); err != nil {
		return err
	}
	p, err := w.device.Picture(ctx)
	if err != nil {
		return fmt.Errorf("it shows nothing: %w", err)
	}
	failure.picture = p
	if black, err := isBlack(p); err != nil || black {
		return errors.Join(err, errors.New("its screen stays black"))
	}
	return nil
}

// isBlack tells whether hardly any point of a picture has light in it.
func isBlack(p script.Picture) (bool, error) {
	body, err := p.PNG(nil, screen.Rect{})
	if err != nil {
		return false, err
	}
	img, err := png.Decode(bytes.NewReader(body))
	if err != nil {
		return false, err
	}
	b := img.Bounds()
	lit, seen := 0, 0
	for y := b.Min.Y; y < b.Max.Y; y += 7 {
		for x := b.Min.X; x < b.Max.X; x += 7 {
			r, g, bl, _ := img.At(x, y).RGBA()
			if seen++; r+g+bl > 3*0x1400 {
				lit++
			}
		}
	}
	return lit*200 < seen, nil
}

// remains uploads what was seen last of a device that was given up.
func (w *worker) remains(ctx context.Context, f *bootFailure) *fleet.Broken {
	out := &fleet.Broken{Diagnosis: f.Error(), Remedy: bootRemedy}
	keep := func(content []byte) string {
		sum := sha256.Sum256(content)
		digest := hex.EncodeToString(sum[:])
		if err := w.host.config.Service.Upload(ctx, digest, content); err != nil {
			w.host.log.Warn("what was seen last of a device could not be kept", "error", err)
			return ""
		}
		return digest
	}
	if len(f.log) > 0 {
		out.Log = keep(logText(f.log))
	}
	if f.picture != nil {
		if body, err := f.picture.PNG(nil, screen.Rect{}); err == nil {
			out.Picture = keep(body)
		}
	}
	return out
}

// look sees how the device is.
func (w *worker) look(ctx context.Context) fleet.Condition {
	c := fleet.Condition{Power: fleet.PowerUp}
	if v, ok := w.device.(Virtual); ok && !v.Up() {
		return fleet.Condition{Power: fleet.PowerHalted}
	}
	if d, ok := w.device.(Healthy); ok {
		health, err := d.Health(ctx)
		if err != nil {
			gone := false
			health = fleet.Health{Connected: &gone}
		}
		c.Checks = fleet.Readiness(w.device.Describe(), health)
	}
	if d, ok := w.device.(Holding); ok {
		c.Installed, _ = d.Installed(ctx) // what cannot be told now is told later
	}
	return c
}

// refresh sees how the device is and tells the service where that has changed. A
// device that is back in reach is cleaned of its last lease first.
func (w *worker) refresh(ctx context.Context) {
	now := w.look(ctx)
	if _, bad := fleet.Unready(now.Checks); w.stained && !bad {
		if err := w.device.Clean(ctx, CleanApp); err != nil {
			now.Checks = append(now.Checks, fleet.Check{ID: "clean", Title: "What the last run left is gone", Why: "it could not be cleaned: " + err.Error(), Remedy: "take the app under test off it by hand, then check again"})
		} else {
			w.stained = false
			now = w.look(ctx)
		}
	}
	w.note(now)
}

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
		var own *Trouble
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
	v, virtual := w.device.(Virtual)
	switch {
	case e.What == link.DoCheck:
		w.refresh(ctx)
		return nil
	case e.What == link.DoStandin:
		if d, ok := w.device.(Simulated); ok {
			return d.Deed(ctx, e.Args.Deed, e.Args.Count)
		}
		return &Trouble{"it is no stand-in", "what stands-ins are is in docs/stand-ins.md"}
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
		return &Trouble{"it is no virtual device", ""}
	case e.What == link.DoBoot:
		if r, ok := w.host.takeRoom(w); !ok { // others may have been booted since it was asked
			return &Trouble{r.Why, r.Remedy}
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
	if r, bad := fleet.Unready(w.look(ctx).Checks); bad {
		return &Trouble{r.Why, r.Remedy}
	}
	if err := w.device.Ready(ctx, Surroundings{}); err != nil {
		return err
	}
	if err := w.device.Clean(ctx, CleanApp); err != nil {
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
			h.jobs.Go(func() error { h.site(h.life, e); return nil })
			continue
		case link.DoRemove:
			h.jobs.Go(func() error { h.remove(e); return nil })
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
			h.answer(link.Done{ID: e.ID, Trouble: "too much is asked of it already", Remedy: "try again when that is done"}, "")
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
		if err := h.config.Yard.fetch(ctx, e.Args.Image, h.offerChanged); err != nil {
			done.Trouble = err.Error()
		}
		h.offerChanged()
		h.answer(done, "")
		return
	}
	d, err := h.config.Yard.make(e.Device, e.Args.Model, e.Args.Image)
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
	h.mu.Lock()
	delete(h.workers, e.Device) // no lease is taken for it from here on
	h.mu.Unlock()
	w.end() // it lets go of the device
	if err := h.config.Yard.remove(e.Device); err != nil {
		done.Trouble = err.Error()
	}
	h.mu.Lock()
	h.news.gone = append(h.news.gone, e.Device)
	h.news.load = true
	h.mu.Unlock()
	h.answer(done, "")
}

// discreet is somebody's own device: it shows the app under test and nothing else.
type discreet struct {
	Device
	app string
}

// eyes gives the device as it may be looked at.
func (w *worker) eyes() Device {
	if w.device.Describe().Owner == "" {
		return w.device
	}
	return discreet{w.device, w.app}
}

func (d discreet) Tree(ctx context.Context) (*screen.Tree, error) {
	t, err := d.Device.Tree(ctx)
	if err != nil || t.App == d.app && d.app != "" {
		return t, err
	}
	return &screen.Tree{Width: t.Width, Height: t.Height, Revision: t.Revision, Language: t.Language, Root: &screen.Node{Role: "application", Name: "not the app under test, and so not shown"}}, nil
}

func (d discreet) Picture(ctx context.Context) (script.Picture, error) {
	t, err := d.Device.Tree(ctx)
	if err != nil {
		return nil, err
	}
	if t.App != d.app || d.app == "" {
		return nil, errors.New("something else than the app under test is in front of somebody's own device")
	}
	return d.Device.Picture(ctx)
}

// note keeps how the device is, and has the service told where that has changed.
func (w *worker) note(c fleet.Condition) {
	h := w.host
	h.mu.Lock()
	changed := !reflect.DeepEqual(w.condition, c)
	w.condition, w.up = c, c.Power != fleet.PowerHalted
	h.mu.Unlock()
	if changed {
		h.changed(w.device.Describe().Name)
	}
}

// seenAs gives how the device was seen last.
func (w *worker) seenAs() fleet.Condition {
	w.host.mu.Lock()
	defer w.host.mu.Unlock()
	return w.condition
}

func (w *worker) setBusy(busy bool) {
	w.host.mu.Lock()
	defer w.host.mu.Unlock()
	w.busy = busy
}

// declared is the device as the service is told of it. The caller holds the lock.
func (w *worker) declared(uncleaned map[string]int64) link.Device {
	f := w.device.Describe()
	condition := w.condition
	if c := w.host.room.check(w.host.config.Name, w.host.config.Dir); c != nil {
		condition.Checks = append(slices.Clip(condition.Checks), *c)
	}
	return link.Device{Device: f, Lease: uncleaned[f.Name], Condition: condition}
}

// employ begins to drive a device.
func (h *Host) employ(d Device) *worker {
	ctx, end := context.WithCancel(h.life)
	w := &worker{host: h, device: d, leases: make(chan *holding, 4), wishes: make(chan wish, 8), errands: make(chan link.Errand, 8), end: end}
	if v, ok := d.(Virtual); ok {
		if w.condition = (fleet.Condition{Power: fleet.PowerHalted}); !v.Up() && !h.startsHalted(d.Describe().Name) {
			w.condition = fleet.Condition{Power: fleet.PowerBooting}
		}
	} else if _, ok := d.(Healthy); ok { // nothing is to run on it before it has been looked at
		w.condition.Checks = []fleet.Check{{ID: "seen", Title: "It has been looked at", Why: "its host has not looked at it yet", Remedy: "wait a moment"}}
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

func (h *Host) startsHalted(name string) bool {
	return h.config.Yard != nil && h.config.Yard.startsHalted(name)
}

func (h *Host) bootTime(model string) time.Duration {
	if h.config.Yard != nil {
		if m, ok := h.config.Yard.model(model); ok && m.BootMS > 0 {
			return time.Duration(m.BootMS) * time.Millisecond
		}
	}
	return bootTime
}

// onWall tells whether what people do takes its time on the wall.
func (h *Host) onWall() bool { return h.config.Yard != nil && h.config.Yard.site.Clock == "wall" }

// takeRoom takes what a device needs beside those that are up or coming up, if there
// is as much. It is given back when the device is found to be off.
func (h *Host) takeRoom(w *worker) (fleet.Reason, bool) {
	if h.config.Yard == nil {
		return fleet.Reason{}, true
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	d := w.device.Describe()
	others := slices.DeleteFunc(h.running(), func(r fleet.Running) bool { return r.Name == d.Name })
	r, ok := fleet.Room(h.config.Yard.site.Capacity, others, d)
	w.up = w.up || ok
	return r, ok
}

// running lists the virtual devices that take of the host. The caller holds the lock.
func (h *Host) running() []fleet.Running {
	out := []fleet.Running{}
	for name, w := range h.workers {
		if f := w.device.Describe(); f.Virtual() && w.up {
			out = append(out, fleet.Running{Name: name, TakesMB: f.TakesMB, TakesCPUs: f.TakesCPUs, Busy: w.busy})
		}
	}
	slices.SortFunc(out, func(a, b fleet.Running) int { return strings.Compare(a.Name, b.Name) })
	return out
}
