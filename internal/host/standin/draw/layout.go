package draw

import (
	"strings"

	"yamato/internal/core/screen"
)

// Scene is a screen laid out: what can be found on it, touched, and drawn. It
// does not change once made.
type Scene struct {
	Tree    *screen.Tree
	boxes   []box // in painting order
	Actions map[*screen.Node]*Element
	Fields  []*screen.Node
	Lists   map[*screen.Node]List // what can be scrolled
	scrolls map[string]float64    // how far each has been, by key
	Pan     float64               // how far what is laid out next is moved up
}

// Focused is the field that has the focus, nil where none has.
func (s *Scene) Focused() *screen.Node {
	for _, n := range s.Fields {
		if n.Focused {
			return n
		}
	}
	return nil
}

// List is something that can be scrolled: how far it is, and how far it can be at most.
type List struct {
	Key      string
	At, Most float64
}

// box is one element to draw.
type box struct {
	element *Element
	bounds  screen.Rect
	clip    screen.Rect
	lines   []string // of text, broken to fit
	focused bool
}

// placed is an element with its size, while a screen is laid out.
type placed struct {
	e     *Element
	w, h  float64
	lines []string
	kids  []*placed
}

func (e *Element) inner(width float64) float64 {
	return max(0, width-e.Pad.left-e.Pad.right)
}

// measure finds how large e wants to be in at most width. grow along the main
// way is given out by place.
func measure(e *Element, width float64) *placed {
	p := &placed{e: e}
	if e.W > 0 {
		width = min(width, e.W)
	}
	inner := e.inner(width)
	switch e.T {
	case "text", "button", "field":
		p.measureText(inner)
	case "icon":
		p.w, p.h = e.Size, e.Size
	case "row":
		p.measureRow(inner)
	case "stack":
		for _, k := range e.Kids {
			c := measure(k, inner)
			p.kids, p.w, p.h = append(p.kids, c), max(p.w, c.w), max(p.h, c.h)
		}
	default: // column, scroll, space
		for i, k := range e.Kids {
			c := measure(k, inner)
			p.kids, p.w, p.h = append(p.kids, c), max(p.w, c.w), p.h+c.h
			if i > 0 {
				p.h += e.Gap
			}
		}
	}
	p.w += e.Pad.left + e.Pad.right
	p.h += e.Pad.top + e.Pad.bottom
	if e.W > 0 {
		p.w = e.W
	}
	if e.H > 0 {
		p.h = e.H
	}
	return p
}

func (p *placed) measureText(inner float64) {
	e := p.e
	text := e.Text
	if e.T == "field" {
		text = e.Value
		if text == "" {
			text = e.Hint
		}
		p.lines = []string{text}
		p.w, p.h = inner, e.Size*lineHeight
		return
	}
	if text == "" && len(e.Kids) > 0 { // a button with content of its own
		c := measure(&Element{T: "column", Kids: e.Kids, Gap: e.Gap, Size: e.Size, Align: e.Align}, inner)
		p.kids, p.w, p.h = []*placed{c}, c.w, c.h
		return
	}
	face := faceOf(e.Face)
	p.lines = face.wrap(text, e.Size, inner)
	if e.Lines > 0 && len(p.lines) > e.Lines {
		p.lines = append(p.lines[:e.Lines-1:e.Lines-1], ellipsis(face, strings.Join(p.lines[e.Lines-1:], " "), e.Size,
			inner))
	}
	for _, l := range p.lines {
		p.w = max(p.w, face.width(l, e.Size))
	}
	p.h = float64(len(p.lines)) * e.Size * lineHeight
}

func ellipsis(face *typeface, text string, size, width float64) string {
	if text == "" {
		return "…"
	}
	room := width - face.width("…", size)
	cut, w := face.fits(text, size, room)
	if w > room+0.01 { // not even one character
		cut = 0
	}
	return text[:cut] + "…"
}

// measureRow gives elements that do not grow what they want, in order, and
// measures the growing ones in what is left.
func (p *placed) measureRow(inner float64) {
	e := p.e
	left := inner - e.Gap*float64(max(0, len(e.Kids)-1))
	p.kids = make([]*placed, len(e.Kids))
	var grow float64
	for i, k := range e.Kids {
		if grow += k.Grow; k.Grow == 0 {
			p.kids[i] = measure(k, max(0, left))
			left -= p.kids[i].w
		}
	}
	left = max(0, left)
	for i, k := range e.Kids {
		if k.Grow > 0 {
			p.kids[i] = measure(k, left*k.Grow/grow)
			p.kids[i].w = left * k.Grow / grow
		}
		p.w += p.kids[i].w
		p.h = max(p.h, p.kids[i].h)
	}
	p.w += e.Gap * float64(max(0, len(e.Kids)-1))
}

// Layout lays e out in area and gives the scene. focus names the field that
// takes keys.
func Layout(e *Element, area screen.Rect, s *Scene, focus string) {
	p := measure(e, area.W)
	at := area
	at.Y -= s.Pan
	root := s.place(p, at, area, focus, "r")
	s.Tree.Root.Children = append(s.Tree.Root.Children, root)
}

func NewScene(width, height float64) *Scene {
	whole := screen.Rect{W: width, H: height}
	return &Scene{
		Tree: &screen.Tree{Root: &screen.Node{Role: "application", Bounds: whole, Visible: whole}, Width: width,
			Height: height},
		Actions: map[*screen.Node]*Element{}, Lists: map[*screen.Node]List{},
	}
}

// Scrolled has lists be as far as they have been scrolled, by key; it is called before Layout.
func (s *Scene) Scrolled(by map[string]float64) { s.scrolls = by }

func (s *Scene) place(p *placed, at, clip screen.Rect, focus, path string) *screen.Node {
	e := p.e
	n := &screen.Node{Role: roleOf(e), ID: e.ID, Name: e.Name, Bounds: at, Visible: at.Intersect(clip),
		Disabled: e.Disabled, Selected: e.Selected, Checked: e.Checked, Busy: e.Busy,
		Opaque: e.Ground.Set && e.Ground.A == 255, Touch: e.takesTouch()}
	switch e.T {
	case "field":
		n.Value = e.Value
		if n.Name == "" {
			n.Name = e.Hint
		}
		n.Focused = focus != "" && focus == focusKey(e, path)
		s.Fields = append(s.Fields, n)
	default:
		n.Text = e.Text
	}
	s.Actions[n] = e
	s.Tree.Busy = s.Tree.Busy || e.Busy && n.OnScreen()
	s.boxes = append(s.boxes, box{e, at, clip, p.lines, n.Focused})
	inner := screen.Rect{X: at.X + e.Pad.left, Y: at.Y + e.Pad.top, W: e.inner(at.W),
		H: max(0, at.H-e.Pad.top-e.Pad.bottom)}
	if e.T == "scroll" {
		clip = clip.Intersect(at)
	}
	places := p.arrange(inner)
	if e.T == "scroll" && len(places) > 0 {
		l := List{Key: focusKey(e, path)}
		last := places[len(places)-1]
		l.Most = max(0, last.Y+last.H-inner.Y-inner.H)
		l.At = min(s.scrolls[l.Key], l.Most)
		s.Lists[n] = l
		for i := range places {
			places[i].Y -= l.At
		}
	}
	for i, r := range places {
		n.Children = append(n.Children, s.place(p.kids[i], r, clip, focus,
			path+"/"+string(rune('a'+i%26))+string(rune('a'+i/26%26))))
	}
	if n.Name == "" && n.Text == "" && nameFromContent[n.Role] {
		n.Name = screen.Fold(content(n))
	}
	return n
}

// takesTouch reports whether touches end at e: it acts on them, or it is something that
// is painted. What is see-through and does nothing lets them pass.
func (e *Element) takesTouch() bool {
	return e.acts() || e.T == "field" || e.T == "button" || e.Ground.Set && e.Ground.A > 0
}

// acts reports whether e does something when fingers do something to it.
func (e *Element) acts() bool {
	return e.Tap != 0 || e.Hold != 0 || e.Twice != 0 || e.Swipe != 0 || e.Pinch != 0 || e.Drop != 0 || e.Drag != ""
}

// focusKey names a field from one screen to the next.
func focusKey(e *Element, path string) string {
	if e.ID != "" {
		return "#" + e.ID
	}
	return path
}

// arrange gives the place of each kid in inner.
func (p *placed) arrange(inner screen.Rect) []screen.Rect {
	switch {
	case len(p.kids) == 0:
		return nil
	case p.e.T == "stack":
		out := make([]screen.Rect, len(p.kids))
		for i := range out {
			out[i] = inner
		}
		return out
	case p.e.T == "row":
		return p.along(inner, true)
	}
	return p.along(inner, false)
}

func (p *placed) along(inner screen.Rect, row bool) []screen.Rect {
	e := p.e
	main, cross := inner.H, inner.W
	if row {
		main, cross = inner.W, inner.H
	}
	var used, grow float64
	for i, k := range p.kids {
		if i > 0 {
			used += e.Gap
		}
		switch {
		case row:
			used += k.w
		case k.e.Grow > 0 && e.T != "scroll": // what grows takes what the others leave, be it less than it wants
			grow += k.e.Grow
		default:
			used += k.h
		}
	}
	left := max(0, main-used)
	at, gap := 0.0, e.Gap
	if grow == 0 {
		switch e.Spread {
		case "center":
			at = left / 2
		case "end":
			at = left
		case "between":
			if len(p.kids) > 1 {
				gap += left / float64(len(p.kids)-1)
			}
		}
	}
	out := make([]screen.Rect, len(p.kids))
	for i, k := range p.kids {
		long, wide := k.h, k.w
		switch {
		case row:
			long, wide = k.w, k.h
		case grow > 0 && k.e.Grow > 0:
			long = left * k.e.Grow / grow
		case k.e.T == "scroll":
			long = min(long, max(0, main-at))
		}
		off := 0.0
		switch e.Align {
		case "start":
		case "center":
			off = max(0, (cross-wide)/2)
		case "end":
			off = max(0, cross-wide)
		default:
			wide = cross
			if k.e.W > 0 && !row || k.e.H > 0 && row {
				wide = min(cross, map[bool]float64{true: k.e.H, false: k.e.W}[row])
			}
		}
		wide = min(wide, cross)
		if row {
			out[i] = screen.Rect{X: inner.X + at, Y: inner.Y + off, W: long, H: wide}
		} else {
			out[i] = screen.Rect{X: inner.X + off, Y: inner.Y + at, W: wide, H: long}
		}
		at += long + gap
	}
	return out
}

func roleOf(e *Element) string {
	if e.Role != "" {
		return e.Role
	}
	switch e.T {
	case "button":
		return "button"
	case "field":
		return "textbox"
	case "icon":
		return "img"
	}
	return ""
}

// nameFromContent are the roles whose name is what is in them (WAI-ARIA 1.2, 5.2.8.5).
var nameFromContent = map[string]bool{"button": true, "tab": true, "link": true, "heading": true, "option": true,
	"checkbox": true, "switch": true, "radio": true, "menuitem": true}

func content(n *screen.Node) string {
	var parts []string
	for _, c := range n.Children {
		if s := c.Text; s != "" {
			parts = append(parts, s)
		} else {
			parts = append(parts, content(c))
		}
	}
	return strings.Join(parts, " ")
}

// FocusOf gives the key of a field, as layout makes it.
func (s *Scene) FocusOf(n *screen.Node) string {
	var find func(at *screen.Node, path string) string
	find = func(at *screen.Node, path string) string {
		if at == n {
			return focusKey(s.Actions[at], path)
		}
		for i, c := range at.Children {
			if key := find(c, path+"/"+string(rune('a'+i%26))+string(rune('a'+i/26%26))); key != "" {
				return key
			}
		}
		return ""
	}
	for _, c := range s.Tree.Root.Children {
		if key := find(c, "r"); key != "" {
			return key
		}
	}
	return ""
}
