package script

import (
	"context"
	"fmt"
	"math"
	"strconv"

	"yamato/internal/core/screen"
)

func (r *runner) expectShown(ctx context.Context, s *ExpectShown) *stop {
	expected := s.Element.Text + " to be shown"
	if s.No {
		expected = "no " + s.Element.Text
	}
	_, stopped := r.look(ctx, s, expected, func(t *screen.Tree) sight {
		l, nodes := r.find(s.Element, t)
		shown := screen.Shown(nodes)
		switch {
		case s.No && len(shown) > 0:
			return sight{cause: Contradicted, nodes: shown, actual: fmt.Sprintf("%s is shown", describe(shown[0]))}
		case !s.No && len(shown) == 0 && len(nodes) > 0:
			return sight{cause: Contradicted, nodes: nodes[:1], actual: "it is there but hidden"}
		case !s.No && len(shown) == 0:
			near := l.Nearest(t, 3)
			actual := "it is not there"
			if len(near) > 0 {
				actual += "; nearest: " + describe(near[0])
			}
			return sight{cause: Contradicted, nodes: near, actual: actual}
		}
		return sight{ok: true}
	})
	return stopped
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
		if same(shows, wanted, t.Language) {
			return sight{ok: true}
		}
		return sight{cause: Contradicted, nodes: saw.nodes, actual: fmt.Sprintf("it shows %q", clipText(shows))}
	})
	if stopped != nil {
		stopped.failure.Expected = fmt.Sprintf("%s to show %s", s.Element.Text, wanted.quoted())
	}
	return stopped
}

// same compares what is shown with a value: numbers as numbers, texts with
// white space folded.
func same(shows string, wanted value, language string) bool {
	if wanted.isNumber {
		n, ok := screen.Number(shows, language)
		return ok && equal(n, wanted.number)
	}
	return screen.Fold(shows) == screen.Fold(wanted.text)
}

func (r *runner) expectCount(ctx context.Context, s *ExpectCount) *stop {
	words := map[string]string{"=": "", ">=": "at least ", "<=": "at most "}
	_, stopped := r.look(ctx, s, fmt.Sprintf("%s%d %s", words[s.Compare], s.Count, s.Element.Text), func(t *screen.Tree) sight {
		_, nodes := r.find(s.Element, t)
		n := len(screen.Shown(nodes))
		if compare(float64(n), s.Compare, float64(s.Count)) {
			return sight{ok: true}
		}
		return sight{cause: Contradicted, actual: fmt.Sprintf("there are %d", n), nodes: screen.Shown(nodes)}
	})
	return stopped
}

func (r *runner) expectNumber(ctx context.Context, s *ExpectNumber) *stop {
	var left, right value
	_, stopped := r.look(ctx, s, s.Text, func(t *screen.Tree) sight {
		a, b := r.evaluate(s.Left, t), r.evaluate(s.Right, t)
		for _, side := range []sight{a, b} {
			if !side.ok {
				return side
			}
		}
		left, right = a.value, b.value
		if !left.isNumber || !right.isNumber {
			return sight{cause: NotANumber, actual: fmt.Sprintf("%s or %s is no number", left.quoted(), right.quoted())}
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
		return value{number: v.Value, isNumber: true}.String()
	}
	return "the left side"
}

func compare(a float64, sign string, b float64) bool {
	switch sign {
	case "=":
		return equal(a, b)
	case "<":
		return a < b && !equal(a, b)
	case ">":
		return a > b && !equal(a, b)
	case "<=":
		return a <= b || equal(a, b)
	case ">=":
		return a >= b || equal(a, b)
	}
	return false
}

// equal takes two numbers as equal where they differ by less than what sums of
// decimals lose in binary.
func equal(a, b float64) bool {
	return math.Abs(a-b) <= 1e-9*math.Max(1, math.Max(math.Abs(a), math.Abs(b)))
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
	saw, stopped := r.look(ctx, st, "a value to read", func(t *screen.Tree) sight { return r.evaluate(v, t) })
	return saw.value, stopped
}

func (r *runner) evaluate(v Value, t *screen.Tree) sight {
	switch v := v.(type) {
	case Number:
		return sight{ok: true, value: value{number: v.Value, isNumber: true}}
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
		n, ok := screen.Number(content, t.Language)
		if !ok {
			return sight{cause: NotANumber, nodes: saw.nodes, actual: fmt.Sprintf("%s shows %q, which is not one number", v.Element.Text, clipText(content))}
		}
		return sight{ok: true, nodes: saw.nodes, value: value{number: n, isNumber: true}}
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
		if !side.value.isNumber {
			return sight{cause: NotANumber, actual: fmt.Sprintf("%s is no number", side.value.quoted())}
		}
	}
	x, y := left.value.number, right.value.number
	result := map[string]float64{"+": x + y, "-": x - y, "*": x * y}[b.Sign]
	if b.Sign == "/" {
		if y == 0 {
			return sight{cause: NotANumber, actual: "it divides by zero"}
		}
		result = x / y
	}
	return sight{ok: true, nodes: append(left.nodes, right.nodes...), value: value{number: result, isNumber: true}}
}

func (v value) String() string {
	if v.isNumber {
		return strconv.FormatFloat(math.Round(v.number*1e9)/1e9, 'f', -1, 64)
	}
	return v.text
}

func (v value) quoted() string {
	if v.isNumber {
		return v.String()
	}
	return strconv.Quote(v.text)
}
