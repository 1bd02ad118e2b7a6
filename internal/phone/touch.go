package phone

import (
	"encoding/binary"
	"errors"
	"maps"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// touchscreen is where the kernel has the phone's.
const touchscreen = "/dev/input/event2"

// touchMax is the largest number of a place on it, both ways: it is finer than the screen.
const touchMax = 4095

func init() {
	maps.Copy(commands, map[string]func(*job) int{"getevent": getevent})
}

func getevent(j *job) int {
	j.say("add device 1: /dev/input/event0\n  name:     \"gpio-keys\"\n  events:\n    KEY (0001): KEY_VOLUMEDOWN        KEY_POWER\n  input props:\n    <none>\n")
	j.say("add device 2: %s\n  name:     \"touch_panel\"\n  events:\n    KEY (0001): BTN_TOUCH\n", touchscreen)
	j.say("    ABS (0003): ABS_MT_SLOT           : value 0, min 0, max 9, fuzz 0, flat 0, resolution 0\n")
	for _, axis := range []string{"ABS_MT_POSITION_X", "ABS_MT_POSITION_Y"} {
		j.say("                %-22s: value 0, min 0, max %d, fuzz 0, flat 0, resolution 0\n", axis, touchMax)
	}
	j.say("                %-22s: value 0, min 0, max 65535, fuzz 0, flat 0, resolution 0\n  input props:\n    INPUT_PROP_DIRECT\n", "ABS_MT_TRACKING_ID")
	return 0
}

// eventBytes is the length of an event: two words for its time, its kind, its code, its value (Linux, input.h).
const eventBytes = 24

// slot is a finger as the touchscreen feels it.
type slot struct {
	down, was bool
	x, y      int32
}

// fingers takes in events of the touchscreen, and has fingers do what they say once all are up and no more come for it.
type fingers struct {
	job   *job
	rest  []byte
	now   int
	slots [10]slot
	last  time.Time
	done  []device.Finger // of those that have been down since the last time
	used  int
	upAt  time.Time
}

// twice is how long after a finger went up another that comes down is part of the same.
const twice = 320 * time.Millisecond

// Write takes events in.
func (f *fingers) Write(b []byte) (int, error) {
	f.rest = append(f.rest, b...)
	for ; len(f.rest) >= eventBytes; f.rest = f.rest[eventBytes:] {
		e := f.rest[16:eventBytes]
		if err := f.hear(binary.LittleEndian.Uint16(e), binary.LittleEndian.Uint16(e[2:]), int32(binary.LittleEndian.Uint32(e[4:]))); err != nil {
			return 0, err
		}
	}
	return len(b), nil
}

func (f *fingers) hear(kind, code uint16, value int32) error {
	s := &f.slots[f.now]
	switch {
	case kind == 0 && code == 0:
		return f.beat()
	case kind != 3:
	case code == 0x2f:
		if value < 0 || int(value) >= len(f.slots) {
			return errors.New("the touchscreen has no such slot")
		}
		f.now = int(value)
	case code == 0x35:
		s.x = value
	case code == 0x36:
		s.y = value
	case code == 0x39:
		s.down = value >= 0
	}
	return nil
}

// maxActions bounds what fingers do in one gesture.
const maxActions = 20_000

// beat has all that came since the last one be true at once.
func (f *fingers) beat() error {
	now := time.Now()
	if !f.upAt.IsZero() && now.Sub(f.upAt) > twice {
		if err := f.act(); err != nil {
			return err
		}
	}
	over := time.Duration(0)
	if !f.last.IsZero() {
		over = now.Sub(f.last)
	}
	f.last = now
	if f.done == nil {
		f.done, over = make([]device.Finger, len(f.slots)), 0
	}
	any := false
	for i := range f.slots {
		s := &f.slots[i]
		if !s.down && !s.was && len(f.done[i]) == 0 && i >= f.used {
			continue
		}
		f.used = max(f.used, i+1)
		any = any || s.down
		at := f.job.phone.onScreen(s.x, s.y)
		// Each beat is two actions of every finger, so that all do theirs together.
		switch {
		case s.down && !s.was:
			f.done[i] = append(f.done[i], device.Action{Do: "move", At: at, Over: over}, device.Action{Do: "down"})
		case s.down:
			f.done[i] = append(f.done[i], device.Action{Do: "move", At: at, Over: over}, device.Action{Do: "pause"})
		case s.was:
			f.done[i] = append(f.done[i], device.Action{Do: "pause", Over: over}, device.Action{Do: "up"})
		default:
			f.done[i] = append(f.done[i], device.Action{Do: "pause", Over: over}, device.Action{Do: "pause"})
		}
		if len(f.done[i]) > maxActions {
			return errors.New("fingers have been on the screen for too long")
		}
		s.was = s.down
	}
	f.upAt = time.Time{}
	if !any {
		f.upAt = now
	}
	return nil
}

// act does what the fingers have done.
func (f *fingers) act() error {
	done := f.done[:min(f.used, len(f.done))]
	f.done, f.used, f.upAt = nil, 0, time.Time{}
	if len(done) == 0 {
		return nil
	}
	return f.job.phone.with(f.job.ctx, func(d driver.Device) error {
		return able(d, func(g device.Gesturing) error { return g.Perform(f.job.ctx, done...) })
	})
}

// onScreen gives the place on the screen, as it is held, of one on the touchscreen.
func (p *Phone) onScreen(x, y int32) screen.Point {
	scale := 160 / float64(p.config.Density)
	w, h := float64(p.config.Width)*scale, float64(p.config.Height)*scale
	u, v := (float64(x)+0.5)/(touchMax+1), (float64(y)+0.5)/(touchMax+1)
	p.mu.Lock()
	across := p.settings["system/accelerometer_rotation"] == "0" && p.settings["system/user_rotation"] == "1"
	p.mu.Unlock()
	if across {
		return screen.Point{X: v * h, Y: (1 - u) * w}
	}
	return screen.Point{X: u * w, Y: v * h}
}
