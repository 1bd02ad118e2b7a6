package screen

import "strconv"

// maxChanges bounds how many changes are told apart.
const maxChanges = 1000

// Change is a place on the screen where something is not as it was.
type Change struct {
	Place string // the same for the same element from one screen to the next
	Node  *Node  // as it is now
	Kids  int    // by how many its children have become more
	Path  string // the beginning of its children's places
	Tail  int    // how many children at the end are those that were there, where Kids is not 0
}

// Changes tells where after differs from before, each element compared with the one
// that stood in its place. Where another element has taken the place, what is in it is
// not compared.
func Changes(before, after *Tree) []Change {
	var out []Change
	var path []byte
	var walk func(a, b *Node)
	walk = func(a, b *Node) {
		if len(out) == maxChanges || a == b {
			return
		}
		another := a.Role != b.Role || a.ID != b.ID
		if kids := len(b.Children) - len(a.Children); another || kids != 0 || !sameLooks(a, b) {
			c := Change{Place: string(path) + " " + b.Role + " #" + b.ID, Node: b, Kids: kids, Path: string(path)}
			if kids != 0 {
				c.Tail = sameTail(a.Children, b.Children)
			}
			out = append(out, c)
		}
		if another {
			return
		}
		length := len(path)
		for i := range min(len(a.Children), len(b.Children)) {
			path = append(strconv.AppendInt(path[:length], int64(i), 10), '/')
			walk(a.Children[i], b.Children[i])
		}
		path = path[:length]
	}
	if before.Root != nil && after.Root != nil {
		walk(before.Root, after.Root)
	}
	return out
}

// sameTail is how many children at the end stayed, where others came or went before them.
func sameTail(a, b []*Node) int {
	same := func(x, y *Node) bool { return x.Role == y.Role && x.ID == y.ID && x.Text == y.Text && x.Name == y.Name }
	n, head := min(len(a), len(b)), 0
	for head < n && same(a[head], b[head]) {
		head++
	}
	tail := 0
	for tail < n-head && same(a[len(a)-1-tail], b[len(b)-1-tail]) {
		tail++
	}
	return tail
}

func sameLooks(a, b *Node) bool {
	return a.Name == b.Name && a.Text == b.Text && a.Value == b.Value && a.Bounds == b.Bounds &&
		a.Visible == b.Visible &&
		a.Disabled == b.Disabled && a.Focused == b.Focused && a.Selected == b.Selected && a.Checked == b.Checked &&
		a.Busy == b.Busy && a.Opaque == b.Opaque && a.Touch == b.Touch && a.Partly == b.Partly
}
