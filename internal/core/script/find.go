package script

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
)

// find resolves an element to what is on the screen, and remembers what matched.
func (r *runner) find(e *Element, t *screen.Tree) (screen.Locator, []*screen.Node) {
	l := r.locator(e)
	nodes := l.Find(t)
	for p := e; p != nil; p = p.In {
		if !slices.Contains(r.matched, p.Text) && (p == e && len(nodes) > 0 || p != e &&
			len(r.locator(p).Find(t)) > 0) {
			r.matched = append(r.matched, p.Text)
		}
	}
	return l, nodes
}

func (r *runner) locator(e *Element) screen.Locator {
	l := screen.Locator{ID: e.ID, Role: e.Role, Ordinal: e.Ordinal, Label: r.match(e.Label), Called: r.match(e.Called)}
	if e.In != nil {
		in := r.locator(e.In)
		l.In = &in
	}
	return l
}

func (r *runner) match(w *Wanted) screen.Match {
	switch {
	case w == nil:
		return screen.Match{}
	case w.Pattern != nil:
		return screen.Match{Pattern: w.Pattern}
	}
	return screen.Match{Text: r.text(w.Text)}
}

func (r *runner) text(t *Template) string {
	var b strings.Builder
	for _, p := range t.Parts {
		if p.Variable != "" {
			b.WriteString(r.values[p.Variable].String())
		} else {
			b.WriteString(p.Text)
		}
	}
	return b.String()
}

// usable judges whether a screen has the one element to act on: there, shown,
// enabled and uncovered.
func (r *runner) usable(e *Element) func(*screen.Tree) sight {
	return func(t *screen.Tree) sight {
		l, nodes := r.find(e, t)
		shown := t.Shown(nodes)
		switch {
		case len(shown) > 1:
			return several(l, shown)
		case len(nodes) == 0:
			return r.absent(e, l, t)
		case len(shown) == 0:
			return sight{cause: Unusable, actual: "it is " + unseen(nodes[0]), nodes: nodes[:1]}
		}
		n := shown[0]
		if n.Disabled {
			return sight{cause: Unusable, actual: "it is disabled", nodes: shown}
		}
		if o := t.Obstacle(n); o != nil {
			return sight{cause: Unusable, actual: "it is covered by " + screen.DescribeCover(o), nodes: []*screen.Node{n, o}}
		}
		return sight{ok: true, nodes: shown, key: fmt.Sprint(n.Visible)} // it has to stand still, too
	}
}

// unseen says why an element that is there is not seen.
func unseen(n *screen.Node) string {
	if n.OnScreen() {
		return "covered by what lies over it"
	}
	return "hidden"
}

// readable judges whether a screen has the one element to read.
func (r *runner) readable(e *Element, t *screen.Tree) sight {
	l, nodes := r.find(e, t)
	shown := t.Shown(nodes)
	switch {
	case len(shown) > 1:
		return several(l, shown)
	case len(shown) == 1:
		return sight{ok: true, nodes: shown}
	case len(nodes) > 0:
		return sight{cause: Unusable, actual: "it is " + unseen(nodes[0]), nodes: nodes[:1]}
	}
	return r.absent(e, l, t)
}

func (r *runner) absent(e *Element, l screen.Locator, t *screen.Tree) sight {
	near := l.Nearest(t, 3)
	also := ""
	if len(near) > 0 {
		names := []string{}
		for _, n := range near {
			names = append(names, screen.Describe(n))
		}
		also = "; nearest: " + strings.Join(names, ", ")
	}
	if from, to, ok := r.settling.LastSeen(func(t *screen.Tree) bool { return len(t.Shown(l.Find(t))) > 0 }); ok {
		also = fmt.Sprintf(" any more: it was shown for %s, until %s before", short(to-from),
			short(r.device.Now()-to)) + also
	}
	if r.known(e) {
		return sight{cause: Missing, actual: "it is not there" + also, nodes: near}
	}
	return sight{cause: NeverMatched, actual: "nothing has ever matched " + l.String() + also, nodes: near}
}

// several tells candidates apart by what differs among them, and by nothing else.
func several(l screen.Locator, nodes []*screen.Node) sight {
	columns := []func(*screen.Node) string{
		func(n *screen.Node) string { return n.Role },
		func(n *screen.Node) string {
			if n.ID == "" {
				return "without id"
			}
			return "#" + n.ID
		},
		func(n *screen.Node) string { return fmt.Sprintf("%q", n.Label()) },
		func(n *screen.Node) string { return fmt.Sprintf("at %.0f,%.0f", n.Bounds.X, n.Bounds.Y) },
	}
	columns = slices.DeleteFunc(columns, func(c func(*screen.Node) string) bool {
		return !slices.ContainsFunc(nodes, func(n *screen.Node) bool { return c(n) != c(nodes[0]) })
	})
	var rows []string
	for i, n := range nodes[:min(len(nodes), 6)] {
		var cells []string
		for _, c := range columns {
			cells = append(cells, c(n))
		}
		rows = append(rows, fmt.Sprintf("(%d) %s", i+1, strings.Join(cells, " ")))
	}
	return sight{cause: Ambiguous, final: true, nodes: nodes, actual: fmt.Sprintf("%d elements match %s: %s",
		len(nodes),
		l, strings.Join(rows, ", "))}
}

func clipText(s string) string { return plain.Clip(s, 60) }
