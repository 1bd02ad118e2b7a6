package standin

import (
	"context"
	"fmt"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/standin/draw"
	"yamato/internal/host/standin/sandbox"
)

// Tap touches the screen: what is topmost there of what takes touches, or the nearest
// thing around that which acts on them.
func (d *Device) Tap(ctx context.Context, at screen.Point) error {
	if err := d.reach(); err != nil {
		return err
	}
	defer d.touch()
	if err := d.pass(ctx, touchTime); err != nil {
		return err
	}
	return d.tapped(ctx, at)
}

// tapped has what a finger touched react.
func (d *Device) tapped(ctx context.Context, at screen.Point) error {
	s := d.current()
	n := s.Tree.Hit(at)
	if n == nil {
		return nil
	}
	e := handler(s, n)
	if e == nil || e.Disabled {
		return nil
	}
	if app := d.atHome(e.Tap); app != "" {
		return d.Start(ctx, app, device.Resume)
	}
	switch e.Tap {
	case tapAllow, tapDeny, tapNoFile:
		return d.answered(e.Tap)
	case tapNotice:
		return d.opened(ctx)
	case tapDialog:
		_, err := d.Clear(ctx)
		return err
	}
	switch {
	case e.ID == draw.KeyboardID && e.T == "keyboard":
		if k := draw.KeyAt(n.Bounds, at); k != 0 {
			return d.key(ctx, k)
		}
		return nil
	case e.T == "field":
		d.keyboard = true
		d.setFocus(s, n)
	case d.focus != "":
		d.focus, d.keyboard = "", false
		_ = d.render()
	}
	if e.Tap <= 0 {
		return nil
	}
	_, err := d.turn(ctx, sandbox.Request{Op: "tap", Handler: e.Tap})
	return err
}

// reach is called before an app is touched. It tells why that cannot be, once.
func (d *Device) reach() error {
	if err := d.within(); err != nil {
		return err
	}
	return d.alive()
}

func (d *Device) setFocus(s *draw.Scene, n *screen.Node) {
	d.focus = s.FocusOf(n)
	_ = d.render()
}

// handler finds what reacts to a touch on n: n itself, or what it lies in.
func handler(s *draw.Scene, n *screen.Node) *draw.Element {
	return nearest(s, n, func(e *draw.Element) bool {
		return e.Tap != 0 || e.T == "field" || e.T == "keyboard" || e.Ground.Set && e.T == "stack"
	})
}

// nearest finds n, or the nearest of what it lies in, of which does is true.
func nearest(s *draw.Scene, n *screen.Node, does func(*draw.Element) bool) *draw.Element {
	var find func(at *screen.Node, best *draw.Element) *draw.Element
	find = func(at *screen.Node, best *draw.Element) *draw.Element {
		if e := s.Actions[at]; e != nil && does(e) {
			best = e
		}
		if at == n {
			return best
		}
		for _, c := range at.Children {
			if contains(c, n) {
				return find(c, best)
			}
		}
		return nil
	}
	return find(s.Tree.Root, nil)
}

func contains(at, n *screen.Node) bool {
	if at == n {
		return true
	}
	for _, c := range at.Children {
		if contains(c, n) {
			return true
		}
	}
	return false
}

// EnterText enters text in the field that has the focus, as an input method does: a
// character that stands for a key elsewhere is none here.
func (d *Device) EnterText(ctx context.Context, text string) error {
	for _, k := range text {
		if k >= '\uE000' && k <= '\uE05D' {
			return fmt.Errorf("%U is no character that can be entered", k)
		}
	}
	return d.Keys(ctx, text)
}

// Keys presses keys in the field that has the focus. Keys that nothing takes
// are lost, as they would be on a phone.
func (d *Device) Keys(ctx context.Context, keys string) error {
	if err := d.reach(); err != nil {
		return err
	}
	defer d.touch()
	if d.keyboard { // keys that come from elsewhere put it away, as those of a keyboard on a cable do
		d.keyboard = false
		_ = d.render()
	}
	for _, k := range keys {
		if err := d.pass(ctx, keyTime); err != nil {
			return err
		}
		if err := d.key(ctx, k); err != nil {
			return err
		}
	}
	return nil
}

func (d *Device) key(ctx context.Context, k rune) error {
	s := d.current()
	var field *draw.Element
	at := -1
	for i, n := range s.Fields {
		if n.Focused {
			field, at = s.Actions[n], i
		}
	}
	switch {
	case k == '\uE004' && len(s.Fields) > 0: // Tab
		d.setFocus(s, s.Fields[(at+1)%len(s.Fields)])
		return nil
	case field == nil:
		return nil
	case k == '\uE007' && field.Enter == 0 && d.keyboard:
		d.keyboard = false
		return d.render()
	case k == '\uE007' && field.Enter != 0: // Enter
		d.keyboard = false
		_, err := d.turn(ctx, sandbox.Request{Op: "tap", Handler: field.Enter})
		return err
	case k == '\uE003' && field.Value != "": // Backspace
		runes := []rune(field.Value)
		return d.input(ctx, field, string(runes[:len(runes)-1]))
	case k >= '\uE000' && k <= '\uE05D':
		return nil
	}
	return d.input(ctx, field, field.Value+string(k))
}

func (d *Device) input(ctx context.Context, field *draw.Element, value string) error {
	if field.Input == 0 {
		return nil
	}
	_, err := d.turn(ctx, sandbox.Request{Op: "input", Handler: field.Input, Value: value})
	return err
}
