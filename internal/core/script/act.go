package script

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/screen"
)

// usable judges whether a screen has the one element to act on: there, shown,
// enabled and uncovered.
func (r *runner) usable(e Element) func(*screen.Tree) sight {
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
			return sight{cause: Unusable, actual: "it is covered by " + cover(o), nodes: []*screen.Node{n, o}}
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

// one judges whether a screen has the one element to read.
func (r *runner) one(e Element, t *screen.Tree) sight {
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

func (r *runner) absent(e Element, l screen.Locator, t *screen.Tree) sight {
	near := l.Nearest(t, 3)
	also := ""
	if len(near) > 0 {
		names := []string{}
		for _, n := range near {
			names = append(names, describe(n))
		}
		also = "; nearest: " + strings.Join(names, ", ")
	}
	if from, to, ok := r.settling.lastSeen(func(t *screen.Tree) bool { return len(t.Shown(l.Find(t))) > 0 }); ok {
		also = fmt.Sprintf(" any more: it was shown for %s, until %s before", short(to-from), short(r.device.Now()-to)) + also
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
	return sight{cause: Ambiguous, final: true, nodes: nodes, actual: fmt.Sprintf("%d elements match %s: %s", len(nodes), l, strings.Join(rows, ", "))}
}

func describe(n *screen.Node) string {
	role := n.Role
	if role == "" {
		role = "text"
	}
	switch {
	case n.ID != "" && n.Label() != "":
		return fmt.Sprintf("%s #%s %q", role, n.ID, clipText(n.Label()))
	case n.ID != "":
		return role + " #" + n.ID
	case n.Label() != "":
		return fmt.Sprintf("%s %q", role, clipText(n.Label()))
	}
	return role
}

// cover describes what lies over an element, by what is on it if it says nothing itself.
func cover(n *screen.Node) string {
	if n.ID != "" || n.Label() != "" {
		return describe(n)
	}
	what := "something"
	if n.Role != "" {
		what = n.Role
	}
	if text := screen.Fold(n.Content()); text != "" {
		return fmt.Sprintf("%s with %q on it", what, clipText(text))
	}
	return fmt.Sprintf("%s without id or text, %.0f by %.0f at %.0f,%.0f", what, n.Bounds.W, n.Bounds.H, n.Bounds.X, n.Bounds.Y)
}

func clipText(s string) string { return clipTo(s, 60) }

// clipTo cuts a text to n characters.
func clipTo(s string, n int) string {
	if len(s) <= n {
		return s
	}
	if r := []rune(s); len(r) > n {
		return string(r[:n]) + "…"
	}
	return s
}

func (r *runner) tap(ctx context.Context, st Statement, e Element) *stop {
	saw, stopped := r.look(ctx, st, e.Text+" to act on", r.usable(e))
	if stopped != nil {
		return stopped
	}
	return r.act(ctx, st, r.device.Tap(ctx, saw.nodes[0].Visible.Centre()))
}

// fill puts the mark behind what the field holds, takes that away, and types.
func (r *runner) fill(ctx context.Context, s *Fill) *stop {
	v, stopped := r.valueWhenSettled(ctx, s, s.Value)
	if stopped != nil {
		return stopped
	}
	if stopped := r.focus(ctx, s, s.Element); stopped != nil {
		return stopped
	}
	saw, stopped := r.look(ctx, s, s.Element.Text+" to hold what is typed", func(t *screen.Tree) sight { return r.one(s.Element, t) })
	if stopped != nil {
		return stopped
	}
	clear := "\uE010" + strings.Repeat("\uE003", len([]rune(saw.nodes[0].Value)))
	return r.act(ctx, s, r.device.Keys(ctx, clear+v.String()))
}

func (r *runner) typeKeys(ctx context.Context, s *Type) *stop {
	v, stopped := r.valueWhenSettled(ctx, s, s.Value)
	if stopped != nil {
		return stopped
	}
	if s.Into != nil {
		if stopped := r.focus(ctx, s, *s.Into); stopped != nil {
			return stopped
		}
	}
	return r.act(ctx, s, r.device.Keys(ctx, v.String()))
}

// focus taps a field and waits until it takes keys.
func (r *runner) focus(ctx context.Context, st Statement, e Element) *stop {
	if stopped := r.tap(ctx, st, e); stopped != nil {
		return stopped
	}
	_, stopped := r.look(ctx, st, e.Text+" to take keys", func(t *screen.Tree) sight {
		saw := r.one(e, t)
		if saw.ok && !saw.nodes[0].Focused {
			return sight{cause: Unusable, actual: "it does not take the focus when tapped", nodes: saw.nodes}
		}
		return saw
	})
	return stopped
}

func (r *runner) press(ctx context.Context, s *Press) *stop {
	key := Keys[s.Key]
	if key.Ability == "" {
		return r.act(ctx, s, r.device.Keys(ctx, key.Character))
	}
	p, ok := r.device.(Presser)
	if !ok || !slices.Contains(r.device.Abilities(), key.Ability) {
		return r.trouble(ctx, s, fmt.Errorf("%w: it has no key `%s`", errNoAbility, s.Key))
	}
	return r.act(ctx, s, p.Press(ctx, s.Key))
}

func (r *runner) picture(ctx context.Context, s *TakePicture) *stop {
	var crop screen.Rect
	saw, stopped := r.look(ctx, s, "a picture", func(t *screen.Tree) sight {
		if s.Element == nil {
			return sight{ok: true}
		}
		return r.one(*s.Element, t)
	})
	if stopped != nil {
		return stopped
	}
	if s.Element != nil {
		crop = saw.nodes[0].Visible
	}
	tree, err := r.device.Tree(ctx)
	if err != nil {
		return r.trouble(ctx, s, err)
	}
	p, err := r.device.Picture(ctx)
	if err != nil {
		return r.trouble(ctx, s, err)
	}
	r.rec.Picture(r.text(s.Name), p, tree, nil, crop)
	return nil
}
