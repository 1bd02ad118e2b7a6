package android

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// What fingers do goes to the phone by one of two ways. Where the shell may write to its touchscreen as the kernel has it,
// by that: as many fingers as there are, at the pace that they have. Where it may not, by the OS's own tool, which has one
// finger that goes along straight lines.

var _ device.Gesturing = (*Device)(nil)

// touchscreen is one as the kernel has it (Linux, input/multi-touch-protocol: type B).
type touchscreen struct {
	path       string
	maxX, maxY int // of a place on it, as the phone is held by nature
	fingers    int // at once
	wide       bool
}

// Codes of events (Linux, input-event-codes.h).
const (
	evSyn, evKey, evAbs = 0, 1, 3
	btnTouch            = 0x14a
	absSlot             = 0x2f
	absX, absY          = 0x35, 0x36
	absTracking         = 0x39
)

var (
	inputDevice = regexp.MustCompile(`(?m)^add device \d+: (/dev/input/event\d{1,3})\s*$`)
	absMax      = regexp.MustCompile(`(?m)^.*\b(ABS_MT_SLOT|ABS_MT_POSITION_X|ABS_MT_POSITION_Y)\s*: value -?\d+, min 0, max (\d{1,6}),`)
)

// touchscreenIn finds the touchscreen in what `getevent -pl` lists, nil where there is none that has slots.
func touchscreenIn(said string, wide bool) *touchscreen {
	at := inputDevice.FindAllStringSubmatchIndex(said, 64)
	for i, m := range at {
		end := len(said)
		if i+1 < len(at) {
			end = at[i+1][0]
		}
		part := said[m[0]:end]
		t := &touchscreen{path: said[m[2]:m[3]], fingers: -1, wide: wide}
		for _, f := range absMax.FindAllStringSubmatch(part, 8) {
			n, _ := strconv.Atoi(f[2])
			switch f[1] {
			case "ABS_MT_SLOT":
				t.fingers = n + 1
			case "ABS_MT_POSITION_X":
				t.maxX = n
			default:
				t.maxY = n
			}
		}
		if t.fingers > 0 && t.maxX > 0 && t.maxY > 0 && strings.Contains(part, "INPUT_PROP_DIRECT") {
			return t
		}
	}
	return nil
}

// place gives where on the touchscreen a place of the screen is, that is width by height dp and turned by so many quarters.
func (t *touchscreen) place(p screen.Point, width, height float64, quarters int) (x, y int) {
	u, v := p.X/width, p.Y/height
	switch quarters {
	case 1:
		u, v = 1-v, u
	case 2:
		u, v = 1-u, 1-v
	case 3:
		u, v = v, 1-u
	}
	on := func(part float64, most int) int { return max(0, min(most, int(part*float64(most+1)))) }
	return on(u, t.maxX), on(v, t.maxY)
}

// event writes an event to the end of b. The kernel gives it its time.
func (t *touchscreen) event(b []byte, kind, code uint16, value int32) []byte {
	b = append(b, make([]byte, map[bool]int{true: 16, false: 8}[t.wide])...)
	b = binary.LittleEndian.AppendUint16(b, kind)
	b = binary.LittleEndian.AppendUint16(b, code)
	return binary.LittleEndian.AppendUint32(b, uint32(value))
}

// beat is what all fingers do at once, and when, since the first.
type beat struct {
	at   time.Duration
	data []byte
}

// beats gives the events of what fingers do.
func (t *touchscreen) beats(fingers []device.Finger, width, height float64, quarters int) (out []beat, took time.Duration) {
	at, down := make([]screen.Point, len(fingers)), make([]bool, len(fingers))
	tracking, count := int32(1), 0
	for step, more := 0, true; more; step++ {
		more = false
		var over time.Duration
		for _, f := range fingers {
			if step < len(f) {
				more, over = true, max(over, f[step].Over)
			}
		}
		took += over
		var data []byte
		put := func(kind, code uint16, value int) { data = t.event(data, kind, code, int32(value)) }
		for i, f := range fingers {
			if step >= len(f) {
				continue
			}
			a := f[step]
			switch {
			case a.Do == "move":
				at[i] = a.At
			case a.Do == "up" && down[i]:
				down[i] = false
				count--
				put(evAbs, absSlot, i)
				put(evAbs, absTracking, -1)
				if count == 0 {
					put(evKey, btnTouch, 0)
				}
			case a.Do == "down" && !down[i]:
				down[i] = true
				put(evAbs, absSlot, i)
				put(evAbs, absTracking, int(tracking))
				if count++; count == 1 {
					put(evKey, btnTouch, 1)
				}
				tracking++
			}
			if down[i] && a.Do != "pause" {
				x, y := t.place(at[i], width, height, quarters)
				put(evAbs, absSlot, i)
				put(evAbs, absX, x)
				put(evAbs, absY, y)
			}
		}
		if len(data) > 0 {
			out = append(out, beat{took, t.event(data, evSyn, 0, 0)})
		}
	}
	return out, took
}

// maxGesture bounds how long fingers may be at it.
const maxGesture = time.Minute

// Perform does what fingers do.
func (d *Device) Perform(ctx context.Context, fingers ...device.Finger) error {
	if err := device.CheckFingers(fingers); err != nil {
		return err
	}
	if d.touch == nil {
		return d.byTool(ctx, fingers)
	}
	if len(fingers) > d.touch.fingers {
		return fmt.Errorf("%w: the phone's touchscreen feels %d fingers at once", device.ErrNoAbility, d.touch.fingers)
	}
	width, height := float64(d.facts.Width), float64(d.facts.Height)
	if d.quarters%2 == 1 {
		width, height = height, width
	}
	beats, took := d.touch.beats(fingers, width, height, d.quarters)
	if took > maxGesture {
		return fmt.Errorf("fingers are on a screen for at most %s at once", maxGesture)
	}
	in, feed := io.Pipe()
	played := make(chan error, 1)
	go func() { // ends with the line that reads it, which is waited for
		err := play(ctx, feed, beats)
		_ = feed.CloseWithError(err)
		played <- err
	}()
	out, err := d.runWith(ctx, callLimit+took, in, maxOutput, "cat > "+d.touch.path)
	_ = in.Close()
	if wrong := <-played; err == nil && wrong != nil && !errors.Is(wrong, io.ErrClosedPipe) {
		err = wrong
	}
	if err == nil && out.Code != 0 {
		err = &device.Refusal{Why: "the phone does not let its touchscreen be written to any more: " + wrote(out)}
	}
	return err
}

// play gives the events at their times.
func play(ctx context.Context, to io.Writer, beats []beat) error {
	began := time.Now()
	for _, b := range beats {
		t := time.NewTimer(b.at - time.Since(began))
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return context.Cause(ctx)
		}
		if _, err := to.Write(b.data); err != nil {
			return err
		}
	}
	return nil
}

// byTool has the OS's own tool do what one finger does.
func (d *Device) byTool(ctx context.Context, fingers []device.Finger) error {
	if len(fingers) != 1 {
		return fmt.Errorf("%w: the phone lets nobody write to its touchscreen, and its own tool has one finger", device.ErrNoAbility)
	}
	var lines []string
	var at, from screen.Point
	var pressed bool
	var wait, long time.Duration
	for _, a := range fingers[0] {
		switch a.Do {
		case "move":
			at = a.At
			long += a.Over
		case "pause":
			wait, long = wait+a.Over, long+a.Over
		case "down":
			if wait > 0 && len(lines) > 0 {
				lines = append(lines, fmt.Sprintf("sleep %.3f", wait.Seconds()))
			}
			pressed, from, long = true, at, 0
		case "up":
			if !pressed {
				continue
			}
			pressed, wait = false, 0
			lines = append(lines, fmt.Sprintf("input swipe %.0f %.0f %.0f %.0f %d", from.X*d.scale, from.Y*d.scale, at.X*d.scale,
				at.Y*d.scale, max(long.Milliseconds(), 1)))
			if from == at && long < 50*time.Millisecond {
				lines[len(lines)-1] = fmt.Sprintf("input tap %.0f %.0f", at.X*d.scale, at.Y*d.scale)
			}
		}
	}
	if len(lines) == 0 {
		return nil
	}
	_, err := d.run(ctx, callLimit+maxGesture, strings.Join(lines, "; "))
	return err
}
