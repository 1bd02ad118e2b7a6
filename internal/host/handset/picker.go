package handset

import (
	"context"
	"encoding/json"
	"fmt"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
)

// A list of options that a phone brings up over the page (HTML 4.10.7, a select that shows one) is no part
// of the page, and a browser without a head draws it for nobody. The handset brings it up itself.

// offer is what there is to choose from.
type offer struct {
	Name    string   `json:"name"`
	Options []option `json:"options"`
}

type option struct {
	text, group    string
	disabled, here bool
}

// UnmarshalJSON reads an option as control.js tells it.
func (o *option) UnmarshalJSON(b []byte) error {
	err := json.Unmarshal(b, &[]any{&o.text, &o.group, &o.disabled, &o.here})
	o.text, o.group = plain.Text(o.text, 2000), plain.Text(o.group, 2000)
	return err
}

const (
	pickerID  = "browser-list"
	rowHeight = 44.0
)

// offered lays what there is to choose from, if it is there, over the screen of the app in front.
func (d *Device) offered(t *screen.Tree) *screen.Tree {
	if d.offers == nil {
		d.scrolled = 0
		return t
	}
	next, root := *t, *t.Root
	root.Children = append(append([]*screen.Node{}, root.Children...), d.choices(d.offers))
	next.Root = &root
	return &next
}

// choices is the list as an element over the whole screen, which takes all touches.
func (d *Device) choices(o *offer) *screen.Node {
	w, h := d.width()
	whole := screen.Rect{W: w, H: h}
	total, group := 0.0, ""
	for _, one := range o.Options {
		if one.group != group && one.group != "" {
			total += rowHeight
		}
		group = one.group
		total += rowHeight
	}
	tall := min(total, h-96)
	box := screen.Rect{X: max(16, (w-380)/2), Y: (h - tall) / 2, W: min(w-32, 380), H: tall}
	d.scrolled = max(0, min(d.scrolled, total-tall))
	list := &screen.Node{Role: "listbox", ID: pickerID, Name: o.Name, Opaque: true, Touch: true, Bounds: box,
		Visible: box}
	y := box.Y - d.scrolled
	place := func(n *screen.Node) {
		n.Bounds = screen.Rect{X: box.X, Y: y, W: box.W, H: rowHeight}
		n.Visible = n.Bounds.Intersect(box)
		list.Children = append(list.Children, n)
		y += rowHeight
	}
	group = ""
	for _, one := range o.Options {
		if one.group != group && one.group != "" {
			place(&screen.Node{Text: one.group})
		}
		group = one.group
		place(&screen.Node{Role: "option", Text: one.text, Disabled: one.disabled, Selected: one.here, Touch: true})
	}
	return &screen.Node{Touch: true, Bounds: whole, Visible: whole, Children: []*screen.Node{list}}
}

// chosen takes what was touched.
func (d *Device) chosen(ctx context.Context, at screen.Point) error {
	n := 0
	for _, c := range d.choices(d.offers).Children[0].Children {
		if c.Role != "option" {
			if c.Visible.Contains(at) {
				return nil
			}
			continue
		}
		if c.Visible.Contains(at) {
			if c.Disabled {
				return nil
			}
			return d.pick(ctx, n)
		}
		n++
	}
	return d.pick(ctx, -1) // beside it: it goes away, as on phones
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
	if len(fingers) == 0 {
		return
	}
	var from, to *screen.Point
	for i := range fingers[0] {
		if a := &fingers[0][i]; a.Do == "move" {
			if from == nil {
				from = &a.At
			}
			to = &a.At
		}
	}
	if from != nil {
		d.scrolled += from.Y - to.Y
		d.choices(d.offers) // within its ends
		d.revision++
		d.tree = nil
	}
}
