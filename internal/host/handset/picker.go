package handset

import (
	"context"
	"fmt"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/overlay"
)

// size is that of the screen, as it is held.
func (d *Device) size() overlay.Size {
	w, h := d.width()
	return overlay.Size{W: w, H: h}
}

// list is what there is to choose from, as the handset brings it up.
func (d *Device) list() *overlay.List { return &overlay.List{Offer: d.Offers, Scrolled: d.scrolled} }

// offered lays what there is to choose from, if it is there, over the screen of the app in front.
func (d *Device) offered(t *screen.Tree) *screen.Tree {
	if d.Offers == nil {
		d.scrolled = 0
		return t
	}
	next, root := *t, *t.Root
	root.Children = append(append([]*screen.Node{}, root.Children...), d.list().Node(d.size()))
	next.Root = &root
	return &next
}

// chosen takes what was touched.
func (d *Device) chosen(ctx context.Context, at screen.Point) error {
	option, goes := d.list().Touched(d.size(), at)
	if !goes {
		return nil
	}
	return d.pick(ctx, option)
}

// pick chooses by number, or none with -1.
func (d *Device) pick(ctx context.Context, n int) error {
	d.revision++
	d.tree = nil
	_, err := d.tab.ask(ctx, fmt.Sprintf("yamatoPick(%d)", n))
	return err
}

// scroll moves the list with a finger that goes over it.
func (d *Device) scroll(fingers []device.Finger) {
	if l := d.list(); l.Move(d.size(), fingers) {
		d.scrolled = l.Scrolled
		d.revision++
		d.tree = nil
	}
}
