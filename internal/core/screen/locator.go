package screen

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"yamato/internal/core/near"
)

// Match says what a text must be: exactly Text (both folded, see Fold), or something
// that Pattern finds. The zero Match takes everything.
type Match struct {
	Text    string
	Pattern *regexp.Regexp
}

// Any reports whether m takes everything.
func (m Match) Any() bool { return m.Text == "" && m.Pattern == nil }

// Takes reports whether s fits m.
func (m Match) Takes(s string) bool { return m.taker()(s) }

// taker prepares for many texts: what is wanted is folded once, and so are only those texts
// that are not as a fold would leave them.
func (m Match) taker() func(string) bool {
	switch {
	case m.Pattern != nil:
		return func(s string) bool {
			if m.Pattern.MatchString(norm.NFC.String(s)) {
				return true
			}
			return !isFolded(s) && m.Pattern.MatchString(Fold(s))
		}
	case m.Text != "":
		wanted := Fold(m.Text)
		return func(s string) bool { return s == wanted || !isFolded(s) && Fold(s) == wanted }
	}
	return func(string) bool { return true }
}

// isFolded tells, of plain texts only, that folding would change nothing.
func isFolded(s string) bool {
	blank := true // one at the start goes
	for i := range len(s) {
		c := s[i]
		if c >= utf8.RuneSelf || c < ' ' || c == ' ' && blank {
			return false
		}
		blank = c == ' '
	}
	return !blank || s == ""
}

func (m Match) String() string {
	if m.Pattern != nil {
		return "/" + m.Pattern.String() + "/"
	}
	return fmt.Sprintf("%q", m.Text)
}

// Ordinals that are not a plain count from the first.
const (
	NoOrdinal = 0
	Last      = -1
)

// Locator says how to find elements. Exactly one of Label, ID, Role and XPath is set;
// Called goes with Role only. Ordinal counts what is shown, from 1 in reading order.
type Locator struct {
	Label    Match // visible text, what was typed into a field, or accessible name
	ID       string
	Role     string
	Called   Match
	XPath    *XPath
	Ordinal  int
	Relation Relation // to what Of finds; "" where there is none
	Of       *Locator
}

// String is the canonical form, as a script would write it.
func (l Locator) String() string {
	var b strings.Builder
	switch {
	case l.Ordinal == Last:
		b.WriteString("last ")
	case l.Ordinal != NoOrdinal:
		b.WriteString(OrdinalWord(l.Ordinal) + " ")
	}
	switch {
	case l.XPath != nil:
		b.WriteString(l.XPath.String())
	case l.ID != "":
		b.WriteString("#" + l.ID)
	case l.Role != "":
		b.WriteString(l.Role)
		if !l.Called.Any() {
			b.WriteString(" called " + l.Called.String())
		}
	default:
		b.WriteString(l.Label.String())
	}
	if l.Of != nil {
		b.WriteString(" " + string(l.Relation) + " " + l.Of.String())
	}
	return b.String()
}

// OrdinalWord writes 1 as "1st", 2 as "2nd", 11 as "11th".
func OrdinalWord(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprintf("%d%s", n, suffix)
}

// Find gives every element that l finds in t, in reading order, those that nobody sees
// among them; with an ordinal, it counts those that are shown. Where one match lies in
// another, as the words on a button do, only the outer one counts.
func (l Locator) Find(t *Tree) []*Node {
	if t == nil || t.Root == nil {
		return nil
	}
	roots := []*Node{t.Root}
	if l.Relation == In {
		roots = nil
		for _, r := range l.Of.Find(t) {
			roots = append(roots, r.Children...)
		}
	}
	var found []*Node
	if l.XPath != nil {
		found = l.XPath.find(t, roots)
	} else {
		take := l.taker()
		for _, r := range roots {
			found = collect(r, take, found)
		}
	}
	if l.Relation != "" && l.Relation != In {
		found = l.Relation.keep(found, others(t.Shown(l.Of.Find(t)), found))
	}
	if l.Ordinal != NoOrdinal {
		found = t.Shown(found)
	}
	return l.pick(inReadingOrder(found, RightToLeft(t.Language)))
}

// Anchors are the elements that l finds others by, where it has a relation: those that are shown.
// What may be meant itself is none, where there is something else: a field that is called as the
// label beside it is not near itself.
func (l Locator) Anchors(t *Tree) []*Node {
	if l.Of == nil {
		return nil
	}
	anchors := t.Shown(l.Of.Find(t))
	if len(anchors) < 2 {
		return anchors
	}
	l.Relation, l.Of, l.Ordinal = "", nil, NoOrdinal
	return others(anchors, l.Find(t))
}

// others leaves out of anchors what is among found, unless nothing would be left.
func others(anchors, found []*Node) []*Node {
	rest := slices.DeleteFunc(slices.Clone(anchors), func(n *Node) bool { return slices.Contains(found, n) })
	if len(rest) == 0 {
		return anchors
	}
	return rest
}

func (l Locator) pick(found []*Node) []*Node {
	switch {
	case l.Ordinal == NoOrdinal:
		return found
	case l.Ordinal == Last && len(found) > 0:
		return found[len(found)-1:]
	case l.Ordinal > 0 && l.Ordinal <= len(found):
		return found[l.Ordinal-1 : l.Ordinal]
	}
	return nil
}

func collect(n *Node, take func(*Node) bool, found []*Node) []*Node {
	if take(n) {
		return append(found, n)
	}
	for _, c := range n.Children {
		found = collect(c, take, found)
	}
	return found
}

// PlainText is what an element is called that has no role and something written on it.
const PlainText = "text"

// is reports whether n has a role, or is plain text where that is asked for.
func (n *Node) is(role string) bool {
	return n.Role == role || role == PlainText && n.Role == "" && n.Text != ""
}

// taker gives what tells whether an element is meant, whatever it is related to.
func (l Locator) taker() func(*Node) bool {
	switch {
	case l.ID != "":
		return func(n *Node) bool { return n.ID == l.ID }
	case l.Role != "" && l.Called.Any():
		return func(n *Node) bool { return n.is(l.Role) }
	case l.Role != "":
		called := l.Called.taker()
		return func(n *Node) bool { return n.is(l.Role) && (called(n.Name) || called(n.Text)) }
	}
	label := l.Label.taker()
	return func(n *Node) bool {
		return n.Name != "" && label(n.Name) || n.Text != "" && label(n.Text) || n.Value != "" && label(n.Value)
	}
}

// Nearest gives up to max elements that l might have meant, most alike first:
// by the distance of their ids or labels from what l asks for, and by role.
func (l Locator) Nearest(t *Tree, max int) []*Node {
	type scored struct {
		node  *Node
		score int
	}
	var all []scored
	t.Walk(func(n *Node, _ int) bool {
		if s, ok := l.distance(n); ok {
			all = append(all, scored{n, s})
		}
		return true
	})
	sort.SliceStable(all, func(i, j int) bool { return all[i].score < all[j].score })
	var out []*Node
	for _, s := range all {
		if len(out) == max {
			break
		}
		out = append(out, s.node)
	}
	return out
}

func (l Locator) distance(n *Node) (int, bool) {
	if l.XPath != nil || l.Label.Pattern != nil {
		return 0, false // nothing is near to an expression
	}
	wanted, have := l.Label.Text, n.Label()
	switch {
	case l.ID != "":
		wanted, have = l.ID, n.ID
	case l.Role != "":
		if n.Role != l.Role && l.Called.Any() {
			return 0, false
		}
		wanted = l.Called.Text
	}
	if have == "" {
		return 0, false
	}
	if wanted == "" {
		return 0, true
	}
	limit := max(2, utf8.RuneCountInString(wanted)/2)
	if apart := len(have) - 4*len(wanted); apart > 4*limit { // too long to be near, whatever it says
		return 0, false
	}
	d := near.Distance(strings.ToLower(wanted), strings.ToLower(have))
	if strings.Contains(strings.ToLower(have), strings.ToLower(wanted)) {
		d = 1
	}
	if l.Role != "" && n.Role != l.Role {
		d += 3
	}
	return d, d <= limit
}
