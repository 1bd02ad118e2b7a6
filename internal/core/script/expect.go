package script

import (
	"context"
	"fmt"
	"math/big"
	"slices"

	"yamato/internal/core/screen"
)

func (r *runner) expectShown(ctx context.Context, s *ExpectShown) *stop {
	expected := s.Element.Text + " to be shown"
	if s.No {
		expected = "no " + s.Element.Text
	}
	_, stopped := r.look(ctx, s, expected, func(t *screen.Tree) sight {
		l, nodes := r.find(s.Element, t)
		shown := t.Shown(nodes)
		switch {
		case s.No && len(shown) > 0:
			return sight{cause: Contradicted, nodes: shown, actual: fmt.Sprintf("%s is shown", describe(shown[0]))}
		case !s.No && len(shown) == 0 && len(nodes) > 0:
			return sight{cause: Contradicted, nodes: nodes[:1], actual: "it is there but " + unseen(nodes[0])}
		case !s.No && len(shown) == 0:
			return r.absent(s.Element, l, t)
		}
		return sight{ok: true}
	})
	if stopped == nil && absence(s) {
		r.doubt(s.Element)
	}
	return stopped
}

// doubt notes on a step that what it found absent may be misspelt.
func (r *runner) doubt(e Element) {
	if !r.known(e) {
		r.doubted = e.Text
		r.note = "this proves little: nothing has ever matched " + e.Text + " in this app"
	}
}

func (r *runner) known(e Element) bool {
	return r.o.Known(e.Text) || slices.Contains(r.matched, e.Text)
}

func (r *runner) expectShows(ctx context.Context, s *ExpectShows) *stop {
	var wanted value
	_, stopped := r.look(ctx, s, s.Element.Text+" to show what is on the right", func(t *screen.Tree) sight {
		saw := r.one(s.Element, t)
		if !saw.ok {
			return saw
		}
		right := r.evaluate(s.Value, t)
		if !right.ok {
			return right
		}
		wanted = right.value
		shows := saw.nodes[0].Content()
		why, same := same(shows, wanted, t.Language)
		if same {
			return sight{ok: true, key: shows}
		}
		return sight{cause: Contradicted, nodes: saw.nodes, actual: fmt.Sprintf("it shows %q", clipText(shows)) + why}
	})
	if stopped != nil {
		stopped.failure.Expected = fmt.Sprintf("%s to show %s", s.Element.Text, wanted.quoted())
	}
	return stopped
}

// same reports whether what is shown is a value and nothing else, and if not, what is
// not to be seen of the difference.
func same(shows string, wanted value, language string) (why string, same bool) {
	if wanted.isNumber() {
		n, err := screen.BareNumber(shows, language)
		if err != nil {
			return ": " + err.Error(), false
		}
		return "", n.Cmp(wanted.number) == 0
	}
	if screen.Fold(shows) == screen.Fold(wanted.text) {
		return "", true
	}
	if how := screen.Disguised(shows, wanted.text); how != "" {
		return ", which looks the same, but " + how, false
	}
	return "", false
}

func (r *runner) expectCount(ctx context.Context, s *ExpectCount) *stop {
	words := map[string]string{"=": "", ">=": "at least ", "<=": "at most "}
	_, stopped := r.look(ctx, s, fmt.Sprintf("%s%d %s", words[s.Compare], s.Count, s.Element.Text), func(t *screen.Tree) sight {
		l, nodes := r.find(s.Element, t)
		shown := t.Shown(nodes)
		n := len(shown)
		switch {
		case compare(big.NewRat(int64(n), 1), s.Compare, big.NewRat(int64(s.Count), 1)):
			return sight{ok: true}
		case len(nodes) == 0:
			return r.absent(s.Element, l, t)
		}
		return sight{cause: Contradicted, actual: fmt.Sprintf("there are %d", n), nodes: shown}
	})
	if stopped == nil && absence(s) {
		r.doubt(s.Element)
	}
	return stopped
}

func (r *runner) expectNumber(ctx context.Context, s *ExpectNumber) *stop {
	var right value
	expected := fmt.Sprintf("%s %s %s", describeValue(s.Left), s.Compare, describeValue(s.Right))
	_, stopped := r.look(ctx, s, expected, func(t *screen.Tree) sight {
		a, b := r.evaluate(s.Left, t), r.evaluate(s.Right, t)
		for _, side := range []sight{a, b} {
			if !side.ok {
				return side
			}
		}
		left := a.value
		right = b.value
		if !left.isNumber() || !right.isNumber() {
			text := left
			if left.isNumber() {
				text = right
			}
			return sight{cause: NotANumber, actual: text.quoted() + " is a text, not a number"}
		}
		if compare(left.number, s.Compare, right.number) {
			return sight{ok: true}
		}
		return sight{cause: Contradicted, actual: fmt.Sprintf("it is %s", left) + shown(s.Left, a.nodes), nodes: append(a.nodes, b.nodes...)}
	})
	if stopped != nil && stopped.failure.Cause == Contradicted {
		stopped.failure.Expected = fmt.Sprintf("%s %s %s", describeValue(s.Left), s.Compare, right)
	}
	return stopped
}

// shown tells what an element shows that a number was read from.
func shown(v Value, nodes []*screen.Node) string {
	n, ok := v.(NumberIn)
	if !ok || len(nodes) != 1 {
		return ""
	}
	return fmt.Sprintf(": %s shows %q", n.Element.Text, clipText(nodes[0].Content()))
}

func describeValue(v Value) string {
	switch v := v.(type) {
	case NumberIn:
		return "number in " + v.Element.Text
	case Variable:
		return "$" + v.Name
	case Number:
		return value{number: v.Value}.String()
	case Text:
		return fmt.Sprintf("%q", clipText(v.Template.source()))
	case Binary:
		return "what is computed"
	}
	return "a value"
}

// valueWhenSettled computes a value. What it reads from the screen is read when
// that has settled.
func (r *runner) valueWhenSettled(ctx context.Context, st Statement, v Value) (value, *stop) {
	reads := false
	valueElements(v, func(Element) { reads = true })
	if !reads {
		saw := r.evaluate(v, nil)
		if !saw.ok {
			return value{}, r.stop(st, saw.cause, "a value", saw.actual)
		}
		return saw.value, nil
	}
	saw, stopped := r.look(ctx, st, "a value to read", func(t *screen.Tree) sight {
		saw := r.evaluate(v, t)
		saw.key = saw.value.String()
		return saw
	})
	return saw.value, stopped
}

func (r *runner) evaluate(v Value, t *screen.Tree) sight {
	switch v := v.(type) {
	case Number:
		return sight{ok: true, value: value{number: v.Value}}
	case Text:
		return sight{ok: true, value: value{text: r.text(v.Template)}}
	case Variable:
		return sight{ok: true, value: r.values[v.Name]}
	case NumberIn:
		saw := r.one(v.Element, t)
		if !saw.ok {
			return saw
		}
		content := saw.nodes[0].Content()
		n, err := screen.Number(content, t.Language)
		if err != nil {
			return sight{cause: NotANumber, nodes: saw.nodes, actual: fmt.Sprintf("%s shows %q, which is not one number: %s", v.Element.Text, clipText(content), err)}
		}
		return sight{ok: true, nodes: saw.nodes, value: value{number: n}}
	case Binary:
		return r.binary(v, t)
	}
	return sight{cause: Trouble, actual: fmt.Sprintf("%T cannot be computed", v)}
}

func (r *runner) binary(b Binary, t *screen.Tree) sight {
	left, right := r.evaluate(b.Left, t), r.evaluate(b.Right, t)
	for _, side := range []sight{left, right} {
		if !side.ok {
			return side
		}
		if !side.value.isNumber() {
			return sight{cause: NotANumber, actual: fmt.Sprintf("%s is no number", side.value.quoted())}
		}
	}
	result, why := compute(left.value.number, b.Sign, right.value.number)
	if why != "" {
		return sight{cause: NotANumber, actual: why}
	}
	return sight{ok: true, nodes: append(left.nodes, right.nodes...), value: value{number: result}}
}
