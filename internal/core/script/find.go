package script

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
)

// found is what an element was resolved to on a screen.
type found struct {
	locator screen.Locator
	nodes   []*screen.Node // in reading order, those that nobody sees among them
	shown   []*screen.Node
	trouble *sight // why it could not be looked for
}

// find resolves an element to what is on the screen, and remembers what matched.
func (r *runner) find(e *Element, t *screen.Tree) found {
	r.looked[e.Text] = true
	l, trouble := r.locator(e, t)
	if trouble != nil {
		return found{trouble: trouble}
	}
	if r.expecting && r.home(t) { // an app's icon there is not its name shown in it
		return found{locator: l}
	}
	if trouble := r.anchored(e, l, t); trouble != nil {
		return found{locator: l, trouble: trouble}
	}
	nodes := l.Find(t)
	if len(nodes) > 0 {
		r.matched[e.Text] = true
	}
	of := l.Of
	for p := e.Of; p != nil; p, of = p.Of, of.Of {
		if !r.matched[p.Text] && (len(nodes) > 0 || len(of.Find(t)) > 0) {
			r.matched[p.Text] = true
		}
	}
	return found{locator: l, nodes: nodes, shown: t.Shown(nodes)}
}

// anchored tells of an element that others are found by, and of which there are several: no
// relation is quietly that to the first. What lies in one of several is another matter.
func (r *runner) anchored(e *Element, l screen.Locator, t *screen.Tree) *sight {
	for ; e != nil && e.Of != nil; e, l = e.Of, *l.Of {
		if e.Relation == screen.In {
			continue
		}
		if shown := l.Anchors(t); len(shown) > 1 {
			s := r.several(*l.Of, shown)
			return &s
		}
	}
	return nil
}

// home reports whether a screen is the home screen, in place of the app that was in front.
func (r *runner) home(t *screen.Tree) bool { return t.App == "" && r.o.App != "" && r.app == r.o.App }

func (r *runner) locator(e *Element, t *screen.Tree) (screen.Locator, *sight) {
	l := screen.Locator{ID: e.ID, Role: e.Role, XPath: e.XPath, Ordinal: e.Ordinal, Relation: e.Relation}
	var trouble *sight
	if l.Label, trouble = r.match(e.Label, t); trouble != nil {
		return l, trouble
	}
	if l.Called, trouble = r.match(e.Called, t); trouble != nil {
		return l, trouble
	}
	if e.Of != nil {
		of, trouble := r.locator(e.Of, t)
		if trouble != nil {
			return l, trouble
		}
		l.Of = &of
	}
	return l, nil
}

func (r *runner) match(w *Wanted, t *screen.Tree) (screen.Match, *sight) {
	switch {
	case w == nil:
		return screen.Match{}, nil
	case w.Pattern != nil:
		return screen.Match{Pattern: w.Pattern}, nil
	case w.Word != nil:
		m, why := r.word(w.Word, t)
		if why != "" {
			return m, &sight{cause: NoValue, final: true, actual: why}
		}
		return m, nil
	}
	if name, ok := r.nameless(w.Text); !ok {
		s := r.noValue(name)
		return screen.Match{}, &s
	}
	return screen.Match{Text: r.text(w.Text)}, nil
}

// nameless gives the first name in a text that has no value; ok tells that there is none.
func (r *runner) nameless(t *Template) (name string, ok bool) {
	for _, p := range t.Parts {
		if _, has := r.values[p.Variable]; p.Variable != "" && !has {
			return p.Variable, false
		}
	}
	return "", true
}

func (r *runner) text(t *Template) string { return t.with(r.values) }

// usable judges whether a screen has the one element to act on: there, shown,
// enabled and uncovered.
func (r *runner) usable(e *Element) func(*screen.Tree) sight {
	return func(t *screen.Tree) sight {
		saw := r.readable(e, t)
		if !saw.ok {
			return saw
		}
		n := saw.nodes[0]
		if n.Disabled {
			return sight{cause: Unusable, actual: "it is disabled", nodes: saw.nodes}
		}
		if o := t.Obstacle(n); o != nil {
			return sight{cause: Unusable, actual: "it is covered by " + r.mask(screen.DescribeCover(o)),
				nodes:    []*screen.Node{n, o},
				obstacle: o}
		}
		return sight{ok: true, nodes: saw.nodes, key: fmt.Sprint(n.Visible)} // it has to stand still, too
	}
}

// unseen says why an element that is there is not seen, and what would show it.
func unseen(n *screen.Node, t *screen.Tree) string {
	switch {
	case n.OnScreen():
		return "covered by what lies over it"
	case !n.Bounds.Empty() && t.OutOfSight(n):
		return "out of sight: `scroll to` would find it"
	}
	return "hidden"
}

// readable judges whether a screen has the one element to read.
func (r *runner) readable(e *Element, t *screen.Tree) sight {
	saw := r.find(e, t)
	switch {
	case saw.trouble != nil:
		return *saw.trouble
	case len(saw.shown) > 1:
		return r.several(saw.locator, saw.shown)
	case len(saw.shown) == 1:
		return sight{ok: true, nodes: saw.shown}
	case len(saw.nodes) > 0:
		return sight{cause: Unusable, actual: "it is " + unseen(saw.nodes[0], t), nodes: saw.nodes[:1]}
	}
	return r.absent(e, saw.locator, t)
}

func (r *runner) absent(e *Element, l screen.Locator, t *screen.Tree) sight {
	near := l.Nearest(t, 3)
	also := r.nearest(near)
	if from, to, ok := r.settling.LastSeen(func(t *screen.Tree) bool { return len(t.Shown(l.Find(t))) > 0 }); ok {
		also = fmt.Sprintf(" any more: it was shown for %s, until %s before", short(to-from),
			short(r.device.Now()-to)) + also
	}
	if r.known(e) {
		return sight{cause: Missing, actual: "it is not there" + also, nodes: near}
	}
	return sight{cause: NeverMatched, locator: e.Text, actual: "nothing has ever matched " + r.mask(l.String()) + also,
		nodes: near}
}

// nearest names what a locator may have meant.
func (r *runner) nearest(near []*screen.Node) string {
	if len(near) == 0 {
		return ""
	}
	names := []string{}
	for _, n := range near {
		names = append(names, r.describe(n))
	}
	return "; nearest: " + strings.Join(names, ", ")
}

// several tells candidates apart by what differs among them, and by nothing else.
func (r *runner) several(l screen.Locator, nodes []*screen.Node) sight {
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
		len(nodes), r.mask(l.String()), r.mask(strings.Join(rows, ", ")))}
}

func clipText(s string) string { return plain.Clip(s, 60) }

// clip shortens what is told of a text; what is to be hidden is hidden first, so that no part
// of it stays.
func (r *runner) clip(s string) string { return clipText(r.mask(s)) }

func (r *runner) mask(s string) string { return r.hidden.Text(s) }

func (r *runner) describe(n *screen.Node) string {
	shown := *n
	shown.Value = r.hidden.Held(n)
	return r.mask(screen.Describe(&shown))
}

// shows is what an element shows, shortened, as it may be told.
func (r *runner) shows(n *screen.Node) string {
	if n.Value != "" {
		return clipText(r.hidden.Held(n))
	}
	return r.clip(n.Content())
}

// quoted writes a value as a script would, with what is to be hidden hidden.
func (r *runner) quoted(v amount.Value) string {
	if v.IsNumber() {
		return r.mask(v.String())
	}
	return amount.Value{Text: r.mask(v.Text)}.Quoted()
}
