// Package screen holds what is on a device's screen: the tree of elements, its
// geometry, and the locators that find elements in it.
//
// It computes and does nothing else. A Tree is immutable once handed out; every
// function here may be called from several goroutines at once.
package screen

import (
	"math"
	"strings"
)

// Point is a place on the screen in density-independent pixels, from the top left.
type Point struct {
	X float64 `json:"x"`
	Y float64 `json:"y"`
}

// Rect is an area of the screen in density-independent pixels.
type Rect struct {
	X float64 `json:"x"`
	Y float64 `json:"y"`
	W float64 `json:"w"`
	H float64 `json:"h"`
}

// Centre is the middle of r.
func (r Rect) Centre() Point { return Point{r.X + r.W/2, r.Y + r.H/2} }

// Contains reports whether p lies in r; the right and bottom edges are outside.
func (r Rect) Contains(p Point) bool {
	return p.X >= r.X && p.X < r.X+r.W && p.Y >= r.Y && p.Y < r.Y+r.H
}

// Empty reports whether r has no area.
func (r Rect) Empty() bool { return r.W <= 0 || r.H <= 0 }

// Intersect is the area that r and o share; it is empty where they share none.
func (r Rect) Intersect(o Rect) Rect {
	x, y := math.Max(r.X, o.X), math.Max(r.Y, o.Y)
	w := math.Min(r.X+r.W, o.X+o.W) - x
	h := math.Min(r.Y+r.H, o.Y+o.H) - y
	if w <= 0 || h <= 0 {
		return Rect{}
	}
	return Rect{x, y, w, h}
}

// Node is one element. Role is a WAI-ARIA role; Name is the accessible name;
// Text is what is written on it; Value is what a field holds.
type Node struct {
	Role     string  `json:"role"`
	ID       string  `json:"id,omitempty"`
	Name     string  `json:"name,omitempty"`
	Text     string  `json:"text,omitempty"`
	Value    string  `json:"value,omitempty"`
	Bounds   Rect    `json:"bounds"`
	Visible  Rect    `json:"visible"` // the part of Bounds that is on the screen and not clipped away
	Disabled bool    `json:"disabled,omitempty"`
	Focused  bool    `json:"focused,omitempty"`
	Selected bool    `json:"selected,omitempty"`
	Checked  string  `json:"checked,omitempty"` // "true", "false" or "mixed", for roles that can be checked
	Busy     bool    `json:"busy,omitempty"`
	Children []*Node `json:"children,omitempty"`
}

// Shown reports whether any part of n can be seen.
func (n *Node) Shown() bool { return !n.Visible.Empty() }

// Label is what a person would call n: its name, else its text, else its value.
func (n *Node) Label() string {
	for _, s := range []string{n.Name, n.Text, n.Value} {
		if s != "" {
			return s
		}
	}
	return ""
}

// Content is what n shows: a field's value, else its text, else its name, else
// the text of what is in it, in reading order.
func (n *Node) Content() string {
	switch {
	case n.Value != "":
		return n.Value
	case n.Text != "":
		return n.Text
	case n.Role == "textbox" || n.Role == "combobox":
		return ""
	case n.Name != "":
		return n.Name
	}
	var parts []string
	for _, c := range n.Children {
		if s := c.Content(); s != "" {
			parts = append(parts, s)
		}
	}
	return strings.Join(parts, " ")
}

// Tree is a screen at one moment.
type Tree struct {
	Root     *Node   `json:"root"`
	Width    float64 `json:"width"`
	Height   float64 `json:"height"`
	Revision uint64  `json:"revision"` // rises with every change
	Busy     bool    `json:"busy"`     // the app or the system has something pending
	App      string  `json:"app"`      // id of the app in front, "" if none
	Language string  `json:"language"` // BCP 47, what the device is set to
}

// Walk calls visit for every element, parents before children, in painting
// order, until visit returns false.
func (t *Tree) Walk(visit func(n *Node, depth int) bool) {
	var walk func(n *Node, depth int) bool
	walk = func(n *Node, depth int) bool {
		if !visit(n, depth) {
			return false
		}
		for _, c := range n.Children {
			if !walk(c, depth+1) {
				return false
			}
		}
		return true
	}
	if t != nil && t.Root != nil {
		walk(t.Root, 0)
	}
}

// Hit is the element that a touch at p would meet: the last one painted there.
func (t *Tree) Hit(p Point) *Node {
	var hit *Node
	t.Walk(func(n *Node, _ int) bool {
		if n.Visible.Contains(p) {
			hit = n
		}
		return true
	})
	return hit
}

// Obstacle is what a touch on the middle of n would meet instead of n, or nil
// where it would meet n, something in it, or something n lies in.
func (t *Tree) Obstacle(n *Node) *Node {
	hit := t.Hit(n.Visible.Centre())
	if hit == nil || related(n, hit) || related(hit, n) {
		return nil
	}
	return hit
}

func related(ancestor, n *Node) bool {
	if ancestor == n {
		return true
	}
	for _, c := range ancestor.Children {
		if related(c, n) {
			return true
		}
	}
	return false
}

// Fold makes white space not matter: runs become one blank, ends are trimmed.
func Fold(s string) string { return strings.Join(strings.Fields(s), " ") }
