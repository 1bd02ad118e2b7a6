package host

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/host/pictures"
	"yamato/internal/link"
)

// bootTime is the longest that a boot may take where the model says nothing.
const bootTime = time.Minute

// bootRemedy is what a person can do about a device that does not come up.
const bootRemedy = "read its boot log, make it anew, or give its model more time to boot"

// bootFailure is a virtual device that did not come up, whatever was tried.
type bootFailure struct {
	tried   []string
	log     []device.LogLine
	picture device.Picture // the last, nil where there was none
}

func (f *bootFailure) Error() string {
	return "it does not come up: " + strings.Join(f.tried, "; ") + ". It was given up"
}

// Unwrap makes it the device's own trouble.
func (f *bootFailure) Unwrap() error {
	return &device.Trouble{Why: f.Error(), Remedy: bootRemedy}
}

// begin brings the device up when the host starts, unless it is to stay off, and
// looks how it is.
func (w *worker) begin(ctx context.Context) {
	w.endLeftovers()
	if v, ok := device.As[device.Virtual](w.device); ok && !v.Up() && !w.host.startsHalted(w.name()) {
		var broken *bootFailure
		if err := w.bringUp(ctx, v, false); errors.As(err, &broken) {
			w.host.answer(link.Done{Broken: w.remains(ctx, broken)}, w.name())
		}
	}
	w.cleanLeftovers(ctx)
	w.refresh(ctx)
}

// bringUp boots a virtual device; where it does not come up, or its screen stays
// black, once more from power-off, then emptied.
func (w *worker) bringUp(ctx context.Context, v device.Virtual, realTime bool) error {
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
		w.host.log.Warn("a device did not come up", "device", w.name(), "tried", step, "error", err)
	}
}

func (w *worker) tryBoot(ctx context.Context, v device.Virtual, step fleet.BootStep, limit time.Duration, realTime bool,
	failure *bootFailure) error {
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
func isBlack(p device.Picture) (bool, error) {
	img, err := p.Image()
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
		if err := w.host.config.Service.Upload(ctx, digest, bytes.NewReader(content), int64(len(content))); err != nil {
			w.host.log.Warn("what was seen last of a device could not be kept", "error", err)
			return ""
		}
		return digest
	}
	if len(f.log) > 0 {
		out.Log = keep(logText(f.log))
	}
	if f.picture != nil {
		if body, err := pictures.Drawn(f.picture); err == nil {
			out.Picture = keep(body)
		}
	}
	return out
}

func (h *Host) startsHalted(name string) bool {
	return h.config.Yard != nil && h.config.Yard.StartsHalted(name)
}

func (h *Host) bootTime(model string) time.Duration {
	if h.config.Yard != nil {
		if m, ok := h.config.Yard.Model(model); ok && m.BootMS > 0 {
			return time.Duration(m.BootMS) * time.Millisecond
		}
	}
	return bootTime
}

// onWall tells whether what people do takes its time on the wall.
func (h *Host) onWall() bool { return h.config.Yard != nil && h.config.Yard.OnWall() }

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
	r, ok := fleet.Room(h.config.Yard.Capacity(), others, d)
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
