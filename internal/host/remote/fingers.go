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
)

// Perform does what fingers do, with an engine that knows of no touch screen: one finger is a mouse, but where a phone
// would move the page with it, the page is moved; several are events that a script makes.
func (d *WebKitDevice) Perform(ctx context.Context, fingers ...device.Finger) error {
	if err := device.CheckFingers(fingers); err != nil {
		return err
	}
	if err := d.reach(ctx); err != nil || d.front == "" || d.away || d.engine.asked() != nil || d.Offers != nil {
		if err != nil {
			return err
		}
		return d.browserDevice.Perform(ctx, fingers...)
	}
	if len(fingers) > 1 {
		text, err := json.Marshal(ticks(fingers, d.inPixels))
		if err != nil {
			return fmt.Errorf("what the fingers do cannot be written: %w", err)
		}
		_, err = d.engine.AskAt(ctx, inpage.Place{}, "(async () => yamatoFingers("+string(text)+"))()")
		if errors.Is(err, errDialog) {
			return nil
		}
		return err
	}
	if from, to, ok := dragged(fingers); ok {
		a, b := d.inPixels(from), d.inPixels(to)
		said, err := d.engine.AskAt(ctx, inpage.Place{}, fmt.Sprintf("yamatoPans(%g, %g, %g, %g)", a.X, a.Y, b.X-a.X, b.Y-a.Y))
		if said == "moved" || errors.Is(err, errDialog) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return d.browserDevice.Perform(ctx, fingers...)
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
			t := tick{Over: (over / time.Duration(parts)).Milliseconds()}
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
