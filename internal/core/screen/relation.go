package screen

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// Relation is how an element lies to another.
type Relation string

// The relations. Those of direction want the element wholly on that side, and beside the
// other: what is left or right shares some of its height, what is above or below some of its
// width. Near is the one that is nearest, by the gap between the two; of several as near, all.
const (
	In      Relation = "in"
	Near    Relation = "near"
	Above   Relation = "above"
	Below   Relation = "below"
	LeftOf  Relation = "left of"
	RightOf Relation = "right of"
)

// keep gives those of found that have the relation to one of anchors.
func (r Relation) keep(found, anchors []*Node) []*Node {
	var out []*Node
	if r != Near {
		for _, n := range found {
			if slices.ContainsFunc(anchors, func(a *Node) bool { return n != a && r.beside(n.Bounds, a.Bounds) }) {
				out = append(out, n)
			}
		}
		return out
	}
	nearest := math.Inf(1)
	for _, n := range found {
		for _, a := range anchors {
			if n == a || !n.OnScreen() {
				continue
			}
			switch gap := n.Bounds.gap(a.Bounds); {
			case gap < nearest-seen:
				nearest, out = gap, []*Node{n}
			case gap <= nearest+seen && !slices.Contains(out, n):
				out = append(out, n)
			}
		}
	}
	return out
}

func (r Relation) beside(a, b Rect) bool {
	level := math.Min(a.Y+a.H, b.Y+b.H)-math.Max(a.Y, b.Y) > seen
	stacked := math.Min(a.X+a.W, b.X+b.W)-math.Max(a.X, b.X) > seen
	switch r {
	case Above, Below:
		return stacked && r.Holds(a, b)
	}
	return level && r.Holds(a, b)
}

// Holds reports whether a lies so to b, both in density-independent pixels; half of one is
// nothing. Near holds of no two things alone.
func (r Relation) Holds(a, b Rect) bool {
	switch r {
	case Above:
		return a.Y+a.H <= b.Y+seen
	case Below:
		return b.Y+b.H <= a.Y+seen
	case LeftOf:
		return a.X+a.W <= b.X+seen
	case RightOf:
		return b.X+b.W <= a.X+seen
	case In:
		return a.X >= b.X-seen && a.Y >= b.Y-seen && a.X+a.W <= b.X+b.W+seen && a.Y+a.H <= b.Y+b.H+seen
	}
	return false
}

// ClearOf reports whether two areas share nothing; half a density-independent pixel is nothing.
func (r Rect) ClearOf(o Rect) bool {
	over := r.Intersect(o)
	return over.W <= seen || over.H <= seen
}

// gap is how far two areas are apart, 0 where they touch.
func (r Rect) gap(o Rect) float64 {
	x := math.Max(0, math.Max(r.X-o.X-o.W, o.X-r.X-r.W))
	y := math.Max(0, math.Max(r.Y-o.Y-o.H, o.Y-r.Y-r.H))
	return math.Hypot(x, y)
}

// SameWidth reports whether two areas are as wide, give or take a pixel.
func SameWidth(a, b Rect) bool { return math.Abs(a.W-b.W) <= 1 }

// Whole tells why n cannot be seen as a whole: a part is off the screen or cut away, or
// something opaque lies over a part. It gives "" where it can, and what covers it.
func (t *Tree) Whole(n *Node) (why string, cover *Node) {
	b, v := n.Bounds, n.Visible
	if v.Empty() {
		return "it is out of sight", nil
	}
	if math.Abs(b.X-v.X) > seen || math.Abs(b.Y-v.Y) > seen || math.Abs(b.W-v.W) > seen || math.Abs(b.H-v.H) > seen {
		return "a part of it is out of sight: " + sizes(v) + " of " + sizes(b) + " can be seen", nil
	}
	var covers []*Node
	behind := true
	var walk func(at *Node)
	walk = func(at *Node) {
		if at == n {
			behind = false
			return
		}
		if over := at.Visible.Intersect(v); !behind && at.Opaque && over.W > seen && over.H > seen {
			covers = append(covers, at)
		}
		for _, c := range at.Children {
			walk(c)
		}
	}
	walk(t.Root)
	if len(covers) == 0 && n.Partly {
		return "a part of it is covered", nil
	}
	if len(covers) == 0 {
		return "", nil
	}
	cover = slices.MaxFunc(covers, func(a, b *Node) int {
		x, y := a.Visible.Intersect(v), b.Visible.Intersect(v)
		return cmp.Compare(x.W*x.H, y.W*y.H)
	})
	return "a part of it is covered by " + DescribeCover(cover), cover
}

// InCutout reports whether some of n lies where the screen has none.
func (t *Tree) InCutout(n *Node) bool {
	return slices.ContainsFunc(t.Cutouts, func(c Rect) bool {
		over := n.Bounds.Intersect(c)
		return over.W > seen && over.H > seen
	})
}

func sizes(r Rect) string { return fmt.Sprintf("%.0f by %.0f", r.W, r.H) }

// Cutouts are the places where a screen of a shape (hole, bar or none) has none, by its width
// and height as it is held.
func Cutouts(shape string, width, height float64) []Rect {
	var r Rect
	switch shape {
	case "hole":
		r = Rect{X: min(width, height)/2 - 7, Y: 9, W: 14, H: 14}
	case "bar":
		r = Rect{X: min(width, height)/2 - 52, Y: 10, W: 104, H: 26}
	default:
		return nil
	}
	if width > height { // held across, the top is at the left
		r = Rect{X: r.Y, Y: r.X, W: r.H, H: r.W}
	}
	return []Rect{r}
}

// OutOfSight reports whether n lies where the screen, or something that it lies in, has ended:
// moving that would show it. What is hidden where it would be seen is not out of sight.
func (t *Tree) OutOfSight(n *Node) bool {
	if n.Bounds.Intersect(Rect{W: t.Width, H: t.Height}).Empty() {
		return true
	}
	for _, a := range t.Ancestors(n) {
		if a.OnScreen() && n.Bounds.Intersect(a.Visible).Empty() {
			return true
		}
	}
	return false
}
