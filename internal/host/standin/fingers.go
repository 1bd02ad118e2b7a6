package standin

import (
	"context"
	"math"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/standin/draw"
	"yamato/internal/host/standin/sandbox"
)

// How the system tells what fingers do.
const (
	slop      = 10.0 // dp that a finger may stray and still not have moved
	holdAfter = 500 * time.Millisecond
	twiceIn   = 320 * time.Millisecond
	maxAction = time.Minute // that one thing a finger does may take
)

// stroke is what one finger did, from down to up.
type stroke struct {
	from, to screen.Point
	far      float64 // the farthest that it was from where it began
	began    time.Duration
	took     time.Duration
}

// Perform does what fingers do. The device's time passes with it.
func (d *Device) Perform(ctx context.Context, fingers ...device.Finger) error {
	if err := device.CheckFingers(fingers); err != nil {
		return err
	}
	if err := d.reach(); err != nil {
		return err
	}
	defer d.touch()
	strokes := make([][]stroke, len(fingers))
	at, down := make([]screen.Point, len(fingers)), make([]*stroke, len(fingers))
	for step, any := 0, true; any; step++ {
		any = false
		var over time.Duration
		for _, f := range fingers {
			if step < len(f) {
				any, over = true, max(over, min(f[step].Over, maxAction))
			}
		}
		if err := d.pass(ctx, over); err != nil {
			return err
		}
		for i, f := range fingers {
			if step >= len(f) {
				continue
			}
			switch f[step].Do {
			case "move":
				if from := at[i]; down[i] != nil && len(fingers) == 1 {
					if err := d.dragged(down[i].from, from, f[step].At); err != nil {
						return err
					}
				}
				at[i] = f[step].At
				if s := down[i]; s != nil {
					s.to, s.far = at[i], max(s.far, apart(s.from, at[i]))
				}
			case "down":
				down[i] = &stroke{from: at[i], to: at[i], began: d.now}
			case "up":
				if s := down[i]; s != nil {
					s.took = d.now - s.began
					strokes[i], down[i] = append(strokes[i], *s), nil
				}
			}
		}
	}
	if len(strokes) == 2 && len(strokes[0]) > 0 && len(strokes[1]) > 0 {
		return d.pinched(ctx, strokes[0][0], strokes[1][0])
	}
	if len(strokes) != 1 {
		return nil // more fingers mean nothing here
	}
	for list := strokes[0]; len(list) > 0; {
		s := list[0]
		twice := len(list) > 1 && s.far <= slop && list[1].far <= slop && apart(s.from, list[1].from) <= 3*slop &&
			list[1].began-s.began <= twiceIn
		took, err := d.stroked(ctx, s, twice)
		if err != nil {
			return err
		}
		list = list[1+took:]
	}
	return nil
}

func apart(a, b screen.Point) float64 { return math.Hypot(a.X-b.X, a.Y-b.Y) }

// acting finds what is touched, or what that lies in, of which does is true.
func (d *Device) acting(at screen.Point, does func(*draw.Element) bool) *draw.Element {
	s := d.current()
	n := s.Tree.Hit(at)
	if n == nil {
		return nil
	}
	e := nearest(s, n, does)
	if e == nil || e.Disabled {
		return nil
	}
	return e
}

// stroked tells what a finger has done to what reacts to it; it gives 1 where the next stroke was
// part of it.
func (d *Device) stroked(ctx context.Context, s stroke, twice bool) (took int, err error) {
	switch {
	case s.far > slop:
		return 0, d.swiped(ctx, s)
	case s.took >= holdAfter:
		if e := d.acting(s.from, func(e *draw.Element) bool { return e.Hold != 0 }); e != nil {
			_, err = d.turn(ctx, sandbox.Request{Op: "touch", Handler: e.Hold})
			return 0, err
		}
	case twice:
		if e := d.acting(s.from, func(e *draw.Element) bool { return e.Twice != 0 }); e != nil {
			_, err = d.turn(ctx, sandbox.Request{Op: "touch", Handler: e.Twice})
			return 1, err
		}
	}
	return 0, d.tapped(ctx, s.from)
}

// dragged has what can be scrolled follow the finger.
func (d *Device) dragged(began, from, to screen.Point) error {
	s := d.current()
	if hit := s.Tree.Hit(began); hit != nil {
		if e := nearest(s, hit, func(e *draw.Element) bool { return e.Swipe != 0 || e.Drag != "" }); e != nil {
			return nil // the app takes the drag itself
		}
	}
	var found *draw.List
	s.Tree.Walk(func(n *screen.Node, _ int) bool {
		if l, ok := s.Lists[n]; ok && n.Visible.Contains(began) && l.Most > 0 {
			found = &l // the innermost, and of those the topmost
		}
		return true
	})
	if found == nil || d.ask() != nil || d.over() != nil {
		return nil
	}
	now := min(max(0, found.At-(to.Y-from.Y)), found.Most)
	if now == found.At {
		return nil
	}
	d.scrolls[found.Key] = now
	return d.render()
}

// swiped tells the app of a finger that has moved, and what was dropped where.
func (d *Device) swiped(ctx context.Context, s stroke) error {
	dx, dy := s.to.X-s.from.X, s.to.Y-s.from.Y
	if d.over() != nil {
		if d.locked && !d.asleep && d.stubborn == "" && dy < -60 { // as the lock screen says
			d.locked = false
			d.write("info", "system", "unlocked by a swipe")
			return d.render()
		}
		return nil
	}
	if e := d.acting(s.from, func(e *draw.Element) bool { return e.Drag != "" }); e != nil {
		if onto := d.acting(s.to, func(e *draw.Element) bool { return e.Drop != 0 }); onto != nil {
			_, err := d.turn(ctx, sandbox.Request{Op: "touch", Handler: onto.Drop, Args: []any{e.Drag}})
			return err
		}
		return nil
	}
	e := d.acting(s.from, func(e *draw.Element) bool { return e.Swipe != 0 })
	if e == nil {
		return nil
	}
	way := "down"
	switch {
	case math.Abs(dx) > math.Abs(dy) && dx > 0:
		way = "right"
	case math.Abs(dx) > math.Abs(dy):
		way = "left"
	case dy < 0:
		way = "up"
	}
	_, err := d.turn(ctx, sandbox.Request{Op: "touch", Handler: e.Swipe, Args: []any{way}})
	return err
}

func (d *Device) pinched(ctx context.Context, a, b stroke) error {
	before, after := apart(a.from, b.from), apart(a.to, b.to)
	middle := screen.Point{X: (a.from.X + b.from.X) / 2, Y: (a.from.Y + b.from.Y) / 2}
	e := d.acting(middle, func(e *draw.Element) bool { return e.Pinch != 0 })
	if e == nil || before < 1 || math.Abs(after-before) <= slop {
		return nil
	}
	_, err := d.turn(ctx, sandbox.Request{Op: "touch", Handler: e.Pinch,
		Args: []any{math.Round(100*after/before) / 100}})
	return err
}
