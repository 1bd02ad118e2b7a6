package screen

import "strings"

// MaxSuggested bounds the trees, by elements, for which locators are worked out:
// each element is compared with the whole tree. maxWithin bounds how far out it is
// looked for something that an element lies in.
const (
	MaxSuggested = 1500
	maxWithin    = 4
)

// Suggest gives locators that find n in t and nothing else, the most lasting
// first: its id, then its role and label, then its label, then the same within
// what it lies in, then by order. It gives none for what has no id, role or label.
func Suggest(t *Tree, n *Node) []Locator {
	var out []Locator
	try := func(l Locator) bool {
		found := l.Find(t)
		if len(found) != 1 || found[0] != n {
			return false
		}
		out = append(out, l)
		return true
	}
	own := n.names()
	for _, l := range own {
		try(l)
	}
	if len(out) > 0 {
		return out
	}
	around := t.Ancestors(n)
	for _, a := range around[:min(len(around), maxWithin)] {
		for _, in := range a.names() {
			if in.Role != "" && in.Called.Any() || len(in.Find(t)) != 1 {
				continue
			}
			for _, l := range own {
				l.Relation, l.Of = In, &in
				try(l)
			}
			if len(out) > 0 {
				return out
			}
		}
	}
	for _, l := range own {
		for i, found := range t.Shown(l.Find(t)) {
			if found == n {
				l.Ordinal = i + 1
				try(l)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return out
}

// names are the locators that say what n is, with no regard to where.
func (n *Node) names() []Locator {
	var out []Locator
	if sound(n.ID) {
		out = append(out, Locator{ID: n.ID})
	}
	label := n.Name
	if label == "" {
		label = n.Text
	}
	label = Fold(label)
	if len([]rune(label)) > 60 || strings.ContainsAny(label, "\"{}\\") {
		label = "" // what a script could only write with escapes is no good way to find anything
	}
	if n.Role != "" && label != "" {
		out = append(out, Locator{Role: n.Role, Called: Match{Text: label}})
	}
	if label != "" {
		out = append(out, Locator{Label: Match{Text: label}})
	}
	if n.Role != "" && n.Role != "generic" {
		out = append(out, Locator{Role: n.Role})
	}
	return out
}

// sound reports whether a script can write id after a hash as it is.
func sound(id string) bool {
	for i, r := range id {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '_'
		if !letter && (i == 0 || !(r >= '0' && r <= '9' || r == '-' || r == '.')) {
			return false
		}
	}
	return id != ""
}

// Ancestors gives what n lies in, the nearest first.
func (t *Tree) Ancestors(n *Node) []*Node {
	var path []*Node
	var walk func(at *Node) bool
	walk = func(at *Node) bool {
		if at == n {
			return true
		}
		for _, c := range at.Children {
			if walk(c) {
				path = append(path, at)
				return true
			}
		}
		return false
	}
	if t != nil && t.Root != nil {
		walk(t.Root)
	}
	return path
}
