package screen

import (
	"cmp"
	"slices"
)

// maxCut bounds how many elements are put in reading order by cuts; of more than that,
// which no screen shows, the order is by top and left edges.
const maxCut = 4000

// slack is by how much, in density-independent pixels, neighbours may overlap and still
// count as apart.
const slack = 1.0

// inReadingOrder sorts elements as a person reads them: by line, then along the line as
// the language runs. The screen is cut at gaps that go right across, then what is left
// at gaps that go right down, and so on (recursive X-Y cut: Nagy, Seth, Viswanathan
// 1992), so that elements of uneven heights in a row are one line, and two columns are
// read one after the other.
func inReadingOrder(nodes []*Node, rightToLeft bool) []*Node {
	order := func(a, b *Node) int {
		x := cmp.Compare(a.Bounds.X, b.Bounds.X)
		if rightToLeft {
			x = cmp.Compare(b.Bounds.X+b.Bounds.W, a.Bounds.X+a.Bounds.W)
		}
		return cmp.Or(cmp.Compare(a.Bounds.Y, b.Bounds.Y), x)
	}
	out := slices.Clone(nodes)
	slices.SortStableFunc(out, order)
	if len(out) < 2 || len(out) > maxCut {
		return out
	}
	return cut(out, rightToLeft)
}

// cut orders nodes. Where neither way has a gap, the order that they came in stays: by
// top edges.
func cut(nodes []*Node, rightToLeft bool) []*Node {
	if len(nodes) < 2 {
		return nodes
	}
	rows := split(nodes, func(r Rect) (from, to float64) { return r.Y, r.Y + r.H })
	if len(rows) > 1 {
		return join(rows, rightToLeft)
	}
	columns := split(nodes, func(r Rect) (from, to float64) { return r.X, r.X + r.W })
	if rightToLeft {
		slices.Reverse(columns)
	}
	switch {
	case len(columns) == 1:
		return nodes
	case len(columns) > maxColumns:
		return join(columns, rightToLeft)
	}
	// One column at a time: beside a tall element there may be rows again.
	return join([][]*Node{columns[0], slices.Concat(columns[1:]...)}, rightToLeft)
}

// maxColumns bounds how many columns are parted one by one.
const maxColumns = 50

func join(parts [][]*Node, rightToLeft bool) []*Node {
	var out []*Node
	for _, p := range parts {
		out = append(out, cut(p, rightToLeft)...)
	}
	return out
}

// split parts nodes at the gaps between their spans, in order of their spans.
func split(nodes []*Node, span func(Rect) (from, to float64)) [][]*Node {
	sorted := slices.Clone(nodes)
	slices.SortStableFunc(sorted, func(a, b *Node) int {
		x, _ := span(a.Bounds)
		y, _ := span(b.Bounds)
		return cmp.Compare(x, y)
	})
	var parts [][]*Node
	var end float64
	for i, n := range sorted {
		from, to := span(n.Bounds)
		if i == 0 || from >= end-min(slack, (to-from)/4) {
			parts = append(parts, nil)
			end = to
		}
		end = max(end, to)
		parts[len(parts)-1] = append(parts[len(parts)-1], n)
	}
	return parts
}
