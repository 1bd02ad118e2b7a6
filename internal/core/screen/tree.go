// Package screen holds what is on a device's screen: the tree of elements, its
// geometry, and the locators that find elements in it.
//
// It computes and does nothing else. A Tree is immutable once handed out; every
// function here may be called from several goroutines at once.
package screen

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"
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
// Text is what is written on it; Value is what a field holds. Children are painted
// after it, in order.
type Node struct {
	Role     string `json:"role"`
	ID       string `json:"id,omitempty"`
	Name     string `json:"name,omitempty"`
	Text     string `json:"text,omitempty"`
	Value    string `json:"value,omitempty"`
	Bounds   Rect   `json:"bounds"`
	Visible  Rect   `json:"visible"` // the part of Bounds that is on the screen and not clipped away
	Disabled bool   `json:"disabled,omitempty"`
	Focused  bool   `json:"focused,omitempty"`
	Selected bool   `json:"selected,omitempty"`
	Checked  string `json:"checked,omitempty"` // "true", "false" or "mixed", for roles that can be checked
	Busy     bool   `json:"busy,omitempty"`
	Opaque   bool   `json:"opaque,omitempty"` // nothing under it can be seen
	Partly   bool   `json:"partly,omitempty"` // something lies over a part of it that the tree need not have
	Touch    bool   `json:"touch,omitempty"`  // it takes the touches that meet it
	// Unsure says why a person may see n otherwise than is told here, "" where nothing speaks for that.
	Unsure   string  `json:"unsure,omitempty"`
	Children []*Node `json:"children,omitempty"`
}

// OnScreen reports whether any part of n is within the screen and what n lies in. It
// may be covered nevertheless: Tree.Shown tells what a person sees.
func (n *Node) OnScreen() bool { return !n.Visible.Empty() }

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
	// Rests is for how long nothing on the screen changes by itself, as the app's own scripts tell; 0 where
	// nobody can know.
	Rests    time.Duration `json:"-"`
	Awaits   []string      `json:"awaits,omitempty"`  // what that is, where it is known by name
	Open     []string      `json:"open,omitempty"`    // what goes on, and is not waited for
	App      string        `json:"app"`               // id of the app in front, "" if none
	Language string        `json:"language"`          // BCP 47, what the device is set to
	Cutouts  []Rect        `json:"cutouts,omitempty"` // where the screen has none
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

// Size is about how many bytes of memory t takes.
func (t *Tree) Size() int {
	const node = 320
	size := 0
	t.Walk(func(n *Node, _ int) bool {
		size += node + len(n.ID) + len(n.Name) + len(n.Text) + len(n.Value)
		return true
	})
	return size
}

// Hit is the element that a touch at p meets: the last one painted there that takes
// touches, or that hides what is under it; nil where there is none.
func (t *Tree) Hit(p Point) *Node {
	var hit *Node
	t.Walk(func(n *Node, _ int) bool {
		if (n.Touch || n.Opaque) && n.Visible.Contains(p) {
			hit = n
		}
		return true
	})
	return hit
}

// Obstacle is what a touch on the middle of n meets instead of n, or nil where it
// meets n, something in it, or what n lies in. Of elements within each other it is the
// outermost that says what it is.
func (t *Tree) Obstacle(n *Node) *Node {
	p := n.Visible.Centre()
	var obstacle *Node
	behind := true // until n has been painted
	var walk func(at, cover *Node)
	walk = func(at, cover *Node) {
		if at == n {
			behind = false
			return
		}
		if cover == nil && !behind && at.names() != nil {
			cover = at
		}
		if !behind && (at.Touch || at.Opaque) && at.Visible.Contains(p) {
			if obstacle = at; cover != nil {
				obstacle = cover
			}
		}
		for _, c := range at.Children {
			walk(c, cover)
		}
	}
	if t != nil && t.Root != nil {
		walk(t.Root, nil)
	}
	return obstacle
}

// maxPieces bounds the parts that what is left to be seen of an element is cut into;
// one that is cut into more counts as shown.
const maxPieces = 64

// Shown keeps the elements of which a person sees some part: it is on the screen, and
// what is opaque and painted later does not lie over all of it. The order stays.
func (t *Tree) Shown(nodes []*Node) []*Node {
	left := make(map[*Node][]Rect, len(nodes)) // what is still to be seen of each
	for _, n := range nodes {
		if n.OnScreen() {
			left[n] = []Rect{n.Visible}
		}
	}
	if len(left) == 0 {
		return nil
	}
	var painted []*Node // of nodes, with all that is in them
	var walk func(n *Node)
	walk = func(n *Node) {
		if n.Opaque && n.OnScreen() {
			for _, under := range painted {
				left[under] = subtract(left[under], n.Visible)
			}
		}
		for _, c := range n.Children {
			walk(c)
		}
		if _, wanted := left[n]; wanted {
			painted = append(painted, n)
		}
	}
	walk(t.Root)
	var shown []*Node
	for _, n := range nodes {
		if len(left[n]) > 0 {
			shown = append(shown, n)
		}
	}
	return shown
}

// subtract gives what is left of pieces once r is laid over them.
func subtract(pieces []Rect, r Rect) []Rect {
	if len(pieces) > maxPieces || !slices.ContainsFunc(pieces, func(p Rect) bool { return !p.Intersect(r).Empty() }) {
		return pieces
	}
	var out []Rect
	for _, p := range pieces {
		over := p.Intersect(r)
		if over.Empty() {
			out = append(out, p)
			continue
		}
		for _, rest := range []Rect{
			{p.X, p.Y, p.W, over.Y - p.Y},
			{p.X, over.Y + over.H, p.W, p.Y + p.H - over.Y - over.H},
			{p.X, over.Y, over.X - p.X, over.H},
			{over.X + over.W, over.Y, p.X + p.W - over.X - over.W, over.H},
		} {
			if rest.W > seen && rest.H > seen {
				out = append(out, rest)
			}
		}
	}
	return out
}

// seen is how wide a strip must be to count as seen, in density-independent pixels.
const seen = 0.5

// Fold makes what nobody sees not matter: runs of white space become one blank, ends
// are trimmed, and characters are composed (Unicode Standard Annex 15, NFC).
func Fold(s string) string { return norm.NFC.String(strings.Join(strings.Fields(s), " ")) }

// Disguised says how two texts differ that look alike and are not the same, "" where
// they do not look alike.
func Disguised(a, b string) string {
	a, b = Fold(a), Fold(b)
	if a == b || plainLook(a) != plainLook(b) {
		return ""
	}
	x, y := []rune(a), []rune(b)
	for i := range max(len(x), len(y)) {
		switch {
		case i >= len(x):
			return fmt.Sprintf("the other has %U after it", y[i])
		case i >= len(y) || x[i] != y[i]:
			return fmt.Sprintf("its character %d is %U", i+1, x[i])
		}
	}
	return ""
}

// plainLook reduces a text to what it looks like (NFKC, without what is not drawn).
func plainLook(s string) string {
	return norm.NFKC.String(strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Variation_Selector, r) {
			return -1
		}
		return r
	}, s))
}
