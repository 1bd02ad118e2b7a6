package screen

import "strconv"

// maxChanges bounds how many changes are told apart.
const maxChanges = 1000

// Change is a place on the screen where something is not as it was.
type Change struct {
	Place string // the same for the same element from one screen to the next
	Node  *Node  // as it is now
	Kids  int    // by how many its children have become more
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
			out = append(out, Change{Place: string(path) + " " + b.Role + " #" + b.ID, Node: b, Kids: kids})
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

func sameLooks(a, b *Node) bool {
	return a.Name == b.Name && a.Text == b.Text && a.Value == b.Value && a.Bounds == b.Bounds &&
		a.Visible == b.Visible &&
		a.Disabled == b.Disabled && a.Focused == b.Focused && a.Selected == b.Selected && a.Checked == b.Checked &&
		a.Busy == b.Busy && a.Opaque == b.Opaque && a.Touch == b.Touch && a.Partly == b.Partly
}
