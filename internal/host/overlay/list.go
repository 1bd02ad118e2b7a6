package overlay

import (
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/inpage"
)

const (
	listID    = "browser-list"
	rowHeight = 44.0
)

// List is a list of options that a phone brings up over the page (HTML 4.10.7, a select that shows one), which is no
// part of the page.
type List struct {
	*inpage.Offer
	Scrolled float64 // how far it was moved, in dp; kept within its ends
}

// Node is the list as an element over the whole screen, which takes all touches.
func (l *List) Node(s Size) *screen.Node {
	total, group := 0.0, ""
	for _, o := range l.Options {
		if o.Group != group && o.Group != "" {
			total += rowHeight
		}
		group = o.Group
		total += rowHeight
	}
	tall := min(total, s.H-96)
	box := screen.Rect{X: max(16, (s.W-380)/2), Y: (s.H - tall) / 2, W: min(s.W-32, 380), H: tall}
	l.Scrolled = max(0, min(l.Scrolled, total-tall))
	list := &screen.Node{Role: "listbox", ID: listID, Name: l.Name, Opaque: true, Touch: true, Bounds: box, Visible: box}
	y := box.Y - l.Scrolled
	place := func(n *screen.Node) {
		n.Bounds = screen.Rect{X: box.X, Y: y, W: box.W, H: rowHeight}
		n.Visible = n.Bounds.Intersect(box)
		list.Children = append(list.Children, n)
		y += rowHeight
	}
	group = ""
	for _, o := range l.Options {
		if o.Group != group && o.Group != "" {
			place(&screen.Node{Text: o.Group})
		}
		group = o.Group
		place(&screen.Node{Role: "option", Text: o.Text, Disabled: o.Disabled, Selected: o.Here, Touch: true})
	}
	return s.place(&screen.Node{Touch: true, Children: []*screen.Node{list}}, s.whole())
}

// Touched gives the number of the option that a touch takes, -1 for none, and whether the list goes away with it: a
// touch beside it has it go, as on phones, one on a group or on what cannot be chosen has it stay.
func (l *List) Touched(s Size, at screen.Point) (option int, goes bool) {
	n := 0
	for _, c := range l.Node(s).Children[0].Children {
		if c.Visible.Contains(at) {
			if c.Role != "option" || c.Disabled {
				return -1, false
			}
			return n, true
		}
		if c.Role == "option" {
			n++
		}
	}
	return -1, true
}

// Move moves the list with a finger that goes over it, and tells whether it was moved.
func (l *List) Move(s Size, fingers []device.Finger) bool {
	if len(fingers) == 0 {
		return false
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
	if from == nil {
		return false
	}
	l.Scrolled += from.Y - to.Y
	l.Node(s) // within its ends
	return true
}
