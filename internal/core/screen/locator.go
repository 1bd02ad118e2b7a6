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
func (m Match) Takes(s string) bool {
	switch {
	case m.Pattern != nil:
		return m.Pattern.MatchString(norm.NFC.String(s)) || m.Pattern.MatchString(Fold(s))
	case m.Text != "":
		return Fold(s) == Fold(m.Text)
	}
	return true
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

// Locator says how to find elements. Exactly one of Label, ID and Role is set;
// Called goes with Role only. Ordinal counts what is shown, from 1 in reading order.
type Locator struct {
	Label   Match // visible text, what was typed into a field, or accessible name
	ID      string
	Role    string
	Called  Match
	Ordinal int
	In      *Locator
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
	if l.In != nil {
		b.WriteString(" in " + l.In.String())
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
	if l.In != nil {
		roots = nil
		for _, r := range l.In.Find(t) {
			roots = append(roots, r.Children...)
		}
	}
	var found []*Node
	for _, r := range roots {
		found = l.collect(r, found)
	}
	if l.Ordinal != NoOrdinal {
		found = t.Shown(found)
	}
	return l.pick(inReadingOrder(found, RightToLeft(t.Language)))
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

func (l Locator) collect(n *Node, found []*Node) []*Node {
	if l.takes(n) {
		return append(found, n)
	}
	for _, c := range n.Children {
		found = l.collect(c, found)
	}
	return found
}

func (l Locator) takes(n *Node) bool {
	switch {
	case l.ID != "":
		return n.ID == l.ID
	case l.Role != "":
		return n.Role == l.Role && (l.Called.Any() || l.Called.Takes(n.Name) || l.Called.Takes(n.Text))
	}
	return slices.ContainsFunc([]string{n.Name, n.Text, n.Value}, func(s string) bool {
		return s != "" && l.Label.Takes(s)
	})
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
