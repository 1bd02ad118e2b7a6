package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/inpage"
	"yamato/internal/webdriver"
)

// Tap touches the screen with one finger. A page that heeds touches is sent them; what the browser does of a tap it
// does by a mouse, unless the page has it do nothing.
func (d *WebKitDevice) Tap(ctx context.Context, at screen.Point) error {
	if d.plain(ctx) {
		taken, err := d.touches(ctx, false, device.Tapped(at))
		if err != nil || taken {
			return err
		}
	}
	return d.browserDevice.Tap(ctx, at)
}

// plain tells whether fingers meet the page, and nothing that lies over it.
func (d *WebKitDevice) plain(ctx context.Context) bool {
	return d.reach(ctx) == nil && d.front != "" && !d.away && d.engine.asked() == nil && d.Offers == nil && d.engine.alive() == nil
}

// touches has a script send the page what fingers do, and tells whether the page has left nothing of it to the browser.
func (d *WebKitDevice) touches(ctx context.Context, pointers bool, fingers ...device.Finger) (taken bool, err error) {
	text, err := json.Marshal(ticks(fingers, d.inPixels))
	if err != nil {
		return false, fmt.Errorf("what the fingers do cannot be written: %w", err)
	}
	var said string
	ask := func() (err error) {
		said, err = d.engine.AskAt(ctx, inpage.Place{}, fmt.Sprintf("(async () => yamatoFingers(%s, %t))()", text, pointers))
		return err
	}
	var long time.Duration
	for _, f := range fingers {
		var one time.Duration
		for _, a := range f {
			one += a.Over
		}
		long = max(long, one)
	}
	if w, ok := d.engine.(*webkit); ok && long > scriptTime/2 {
		err = w.patiently(ctx, long+scriptTime, ask)
	} else {
		err = ask()
	}
	if errors.Is(err, errDialog) || webdriver.Is(err, webdriver.ScriptTimeout) { // the document went with it
		return true, nil
	}
	return said == "taken", err
}

// Perform does what fingers do, with an engine that knows of no touch screen: touches are events that a script sends.
// Where a phone would move the page, or what can be dragged, that is moved; a tap, and a slider, are a mouse's.
func (d *WebKitDevice) Perform(ctx context.Context, fingers ...device.Finger) error {
	if err := device.CheckFingers(fingers); err != nil {
		return err
	}
	if !d.plain(ctx) {
		return d.browserDevice.Perform(ctx, fingers...)
	}
	from, to, goes := dragged(fingers)
	at, stays := held(fingers)
	switch {
	case goes:
		a, b := d.inPixels(from), d.inPixels(to)
		said, err := d.engine.AskAt(ctx, inpage.Place{}, fmt.Sprintf("yamatoSlides(%g, %g) || yamatoDrags(%g, %g, %g, %g) || yamatoPans(%g, %g, %g, %g)",
			a.X, a.Y, a.X, a.Y, b.X, b.Y, a.X, a.Y, b.X-a.X, b.Y-a.Y))
		switch {
		case said == "yes":
			return d.browserDevice.Perform(ctx, fingers...)
		case said == "dragged", said == "moved", errors.Is(err, errDialog):
			return nil
		case err != nil:
			return err
		}
	case stays:
		if _, err := d.touches(ctx, true, fingers...); err != nil {
			return err
		}
		p := d.inPixels(at)
		_, err := d.engine.AskAt(ctx, inpage.Place{}, fmt.Sprintf("yamatoHeld(%g, %g)", p.X, p.Y))
		if errors.Is(err, errDialog) {
			return nil
		}
		return err
	case len(fingers) == 1:
		taken, err := d.touches(ctx, false, fingers...)
		if err != nil || taken {
			return err
		}
		return d.browserDevice.Perform(ctx, fingers...)
	}
	_, err := d.touches(ctx, true, fingers...)
	return err
}

// dragged tells whether one finger goes from one place to another.
func dragged(fingers []device.Finger) (from, to screen.Point, ok bool) {
	if len(fingers) != 1 {
		return from, to, false
	}
	down := false
	for _, a := range fingers[0] {
		switch a.Do {
		case "down":
			down, from = true, to
		case "move":
			to = a.At
		}
	}
	return from, to, down && math.Hypot(to.X-from.X, to.Y-from.Y) > 3
}

// tick is what fingers do at one moment, and how long it takes: a list of [finger, what, x, y] each.
type tick struct {
	Do   [][4]any `json:"do"`
	Over int64    `json:"over"`
}

// ticks are what fingers do, moment by moment, with moves cut into short ones.
func ticks(fingers []device.Finger, place func(screen.Point) screen.Point) []tick {
	const short = 20 * time.Millisecond
	at := make([]screen.Point, len(fingers))
	out := []tick{}
	for step := 0; ; step++ {
		var over time.Duration
		some := false
		for _, f := range fingers {
			if step < len(f) {
				some, over = true, max(over, f[step].Over)
			}
		}
		if !some {
			return out
		}
		parts := max(1, int(min(over/short, 50)))
		from := append([]screen.Point{}, at...)
		for part := 1; part <= parts; part++ {
			t := tick{Do: [][4]any{}, Over: (over / time.Duration(parts)).Milliseconds()}
			for i, f := range fingers {
				if step >= len(f) || part < parts && f[step].Do != "move" {
					continue
				}
				what := f[step].Do
				if what == "pause" {
					continue
				}
				if what == "move" {
					to, share := f[step].At, float64(part)/float64(parts)
					at[i] = screen.Point{X: from[i].X + (to.X-from[i].X)*share, Y: from[i].Y + (to.Y-from[i].Y)*share}
				}
				p := place(at[i])
				t.Do = append(t.Do, [4]any{i, what, p.X, p.Y})
			}
			out = append(out, t)
		}
	}
}
