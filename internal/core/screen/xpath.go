package screen

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/antchfx/xpath"
)

// XPath is an expression of XPath 1.0 over a screen tree. An element is called by its role
// (`generic` where it has none); its attributes are id, name, text, value, checked, and
// disabled, focused, selected, busy and shown where that is so; its string value is what is
// written on it and in it.
type XPath struct {
	source string
	expr   *xpath.Expr
}

// Bounds on XPath: characters of an expression, and steps from one node to another that one
// search may take, with what it reads of their texts.
const (
	maxXPath      = 1000
	maxXPathSteps = 2_000_000
)

var errXPathLong = errors.New("it takes too long to search")

// NewXPath reads an expression.
func NewXPath(source string) (x *XPath, err error) {
	if len(source) > maxXPath {
		return nil, fmt.Errorf("it is longer than %d bytes", maxXPath)
	}
	if strings.Count(source, "(")+strings.Count(source, "[") > 40 {
		return nil, errors.New("it is nested too deep")
	}
	defer func() {
		if r := recover(); r != nil { // the package panics at some expressions
			x, err = nil, errors.New("it cannot be read")
		}
	}()
	expr, err := xpath.Compile(source)
	if err != nil {
		return nil, err
	}
	empty := &Tree{Root: &Node{Role: "application"}}
	if _, err := (&XPath{source, expr}).Select(empty); err != nil {
		return nil, err
	}
	return &XPath{source, expr}, nil
}

// String is how a script writes it.
func (x *XPath) String() string { return "xpath " + fmt.Sprintf("%q", x.source) }

// Source is the expression.
func (x *XPath) Source() string { return x.source }

// Select gives the elements that the expression selects, in order of the document.
func (x *XPath) Select(t *Tree) (out []*Node, err error) {
	nav := newNavigator(t)
	defer func() {
		if r := recover(); r != nil {
			out, err = nil, errors.New("it cannot be carried out")
			if fault, ok := r.(error); ok && errors.Is(fault, errXPathLong) {
				err = errXPathLong
			}
		}
	}()
	set, ok := x.expr.Evaluate(nav).(*xpath.NodeIterator)
	if !ok {
		return nil, errors.New("it selects no elements: it computes a value")
	}
	seen := map[*Node]bool{}
	for set.MoveNext() {
		at := set.Current().(*navigator)
		if n := at.element(); n != nil && !seen[n] {
			seen[n] = true
			out = append(out, n)
		}
	}
	order := nav.doc.number
	slices.SortFunc(out, func(a, b *Node) int { return order[a] - order[b] })
	return out, nil
}

// find keeps what lies in one of roots.
func (x *XPath) find(t *Tree, roots []*Node) []*Node {
	all, err := x.Select(t)
	if err != nil || len(roots) == 1 && roots[0] == t.Root {
		return all
	}
	within := map[*Node]bool{}
	for _, r := range roots {
		(&Tree{Root: r}).Walk(func(n *Node, _ int) bool {
			within[n] = true
			return true
		})
	}
	return slices.DeleteFunc(all, func(n *Node) bool { return !within[n] })
}

// document is a tree as XPath walks it, numbered once for a search.
type document struct {
	nodes  []*Node
	parent []int // -1 for the root element
	next   []int // sibling, -1 for none
	first  []int // child, -1 for none
	prev   []int
	number map[*Node]int
	steps  int
}

func newNavigator(t *Tree) *navigator {
	d := &document{number: map[*Node]int{}}
	var add func(n *Node, parent int) int
	add = func(n *Node, parent int) int {
		i := len(d.nodes)
		d.nodes, d.parent = append(d.nodes, n), append(d.parent, parent)
		d.next, d.first, d.prev = append(d.next, -1), append(d.first, -1), append(d.prev, -1)
		d.number[n] = i
		last := -1
		for _, c := range n.Children {
			at := add(c, i)
			if last < 0 {
				d.first[i] = at
			} else {
				d.next[last], d.prev[at] = at, last
			}
			last = at
		}
		return i
	}
	add(t.Root, -1)
	return &navigator{doc: d, at: atDocument, attribute: -1}
}

const atDocument = -1

// navigator is a place in a document: an element, or one of its attributes.
type navigator struct {
	doc       *document
	at        int // index of the element, or atDocument
	attribute int // -1 where it is at none
}

// attributes are what an element says of itself, in order.
var attributes = []struct {
	name  string
	value func(*Node) string
}{
	{"id", func(n *Node) string { return n.ID }},
	{"name", func(n *Node) string { return n.Name }},
	{"text", func(n *Node) string { return n.Text }},
	{"value", func(n *Node) string { return n.Value }},
	{"checked", func(n *Node) string { return n.Checked }},
	{"disabled", func(n *Node) string { return mark(n.Disabled) }},
	{"focused", func(n *Node) string { return mark(n.Focused) }},
	{"selected", func(n *Node) string { return mark(n.Selected) }},
	{"busy", func(n *Node) string { return mark(n.Busy) }},
	{"shown", func(n *Node) string { return mark(n.OnScreen()) }},
}

func mark(on bool) string {
	if on {
		return "true"
	}
	return ""
}

func (v *navigator) element() *Node {
	if v.at == atDocument {
		return nil
	}
	return v.doc.nodes[v.at]
}

func (v *navigator) step() {
	v.steps(1)
}

func (v *navigator) steps(n int) {
	if v.doc.steps += n; v.doc.steps > maxXPathSteps {
		panic(errXPathLong)
	}
}

func (v *navigator) NodeType() xpath.NodeType {
	switch {
	case v.at == atDocument:
		return xpath.RootNode
	case v.attribute >= 0:
		return xpath.AttributeNode
	}
	return xpath.ElementNode
}

func (v *navigator) LocalName() string {
	switch {
	case v.at == atDocument:
		return ""
	case v.attribute >= 0:
		return attributes[v.attribute].name
	}
	if role := v.element().Role; role != "" {
		return role
	}
	return "generic"
}

func (v *navigator) Prefix() string { return "" }

func (v *navigator) Value() string {
	if v.attribute >= 0 {
		return attributes[v.attribute].value(v.element())
	}
	n := v.element()
	if n == nil {
		n = v.doc.nodes[0]
	}
	var b strings.Builder
	(&Tree{Root: n}).Walk(func(n *Node, _ int) bool {
		v.steps(1 + len(n.Text)/8) // functions go over the text once more
		b.WriteString(n.Text)
		return true
	})
	return b.String()
}

func (v *navigator) Copy() xpath.NodeNavigator {
	v.step()
	c := *v
	return &c
}

func (v *navigator) MoveToRoot() { v.at, v.attribute = atDocument, -1 }

func (v *navigator) MoveToParent() bool {
	v.step()
	switch {
	case v.attribute >= 0:
		v.attribute = -1
	case v.at == atDocument:
		return false
	default:
		v.at = v.doc.parent[v.at]
	}
	return true
}

func (v *navigator) MoveToNextAttribute() bool {
	v.step()
	if v.at == atDocument {
		return false
	}
	for i := v.attribute + 1; i < len(attributes); i++ {
		if attributes[i].value(v.element()) != "" {
			v.attribute = i
			return true
		}
	}
	return false
}

func (v *navigator) MoveToChild() bool {
	v.step()
	switch {
	case v.attribute >= 0:
		return false
	case v.at == atDocument:
		v.at = 0
		return true
	}
	return v.to(v.doc.first[v.at])
}

func (v *navigator) to(i int) bool {
	if i < 0 {
		return false
	}
	v.at = i
	return true
}

func (v *navigator) MoveToFirst() bool {
	v.step()
	if v.attribute >= 0 || v.at == atDocument || v.doc.parent[v.at] < 0 {
		return false
	}
	return v.to(v.doc.first[v.doc.parent[v.at]])
}

func (v *navigator) MoveToNext() bool {
	v.step()
	return v.attribute < 0 && v.at != atDocument && v.to(v.doc.next[v.at])
}

func (v *navigator) MoveToPrevious() bool {
	v.step()
	return v.attribute < 0 && v.at != atDocument && v.to(v.doc.prev[v.at])
}

func (v *navigator) MoveTo(o xpath.NodeNavigator) bool {
	other, ok := o.(*navigator)
	if !ok || other.doc != v.doc {
		return false
	}
	v.at, v.attribute = other.at, other.attribute
	return true
}
