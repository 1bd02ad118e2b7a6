package script

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// The expectations.
type (
	// ExpectShown expects an element to be seen, or none with No.
	ExpectShown struct {
		Step
		Element *Element
		No      bool
	}
	// ExpectShows expects an element's content to be Value.
	ExpectShows struct {
		Step
		Element *Element
		Value   Value
	}
	// ExpectCount compares how many elements are seen.
	ExpectCount struct {
		Step
		Element *Element
		Compare string // "=", ">=", "<="
		Count   int
	}
	// ExpectNumber compares two numbers.
	ExpectNumber struct {
		Step
		Left    Value
		Compare string // = < > <= >=
		Right   Value
	}
)

func init() {
	add(form{word: "expect", usage: "expect [no] E · expect E shows V · expect V =|<|>|<=|>= V · expect [at " +
		"least|at most] N E", read: readExpect})
}

func readExpect(p *parser, s Step) Statement {
	t := p.peek()
	switch {
	case p.accept("no"):
		return &ExpectShown{s, p.element(), true}
	case p.accept("at", "least"):
		return readCount(p, s, ">=")
	case p.accept("at", "most"):
		return readCount(p, s, "<=")
	case t.Kind == token.Number && !p.comparisonFollows():
		return readCount(p, s, "=")
	case t.Kind == token.Number, t.Kind == token.Variable, t.IsSign("("), t.IsSign("-"), t.Is("number") &&
		p.tokens[p.at+1].Is("in"):
		return readComparison(p, s)
	}
	e := p.element()
	if p.accept("shows") {
		return &ExpectShows{s, e, p.expression()}
	}
	switch t := p.peek(); {
	case t.Is("contains"), t.Is("matches"), t.Is("is"), t.Is("came"), t.Is("for"):
		p.notReady(t)
	case t.Kind == token.Sign:
		p.fail(t, fmt.Sprintf("to compare the number in it: expect number in %s %s …; its text: expect %s shows …",
			e.words(), t.Raw, e.words()), "an element cannot be compared with %s", t)
	case t.Is("show"), t.Is("has"), t.Is("equals"), t.Is("be"), t.Is("to"):
		p.fail(t, fmt.Sprintf("write: expect %s shows \"…\"", e.words()), "%s is not expected here", t)
	}
	return &ExpectShown{s, e, false}
}

func (p *parser) comparisonFollows() bool {
	n := p.tokens[p.at+1]
	return n.Kind == token.Sign && n.Text != "," && n.Text != "("
}

func readCount(p *parser, s Step, compare string) Statement {
	t := p.next()
	n, whole := token.Whole(t.Number)
	if t.Kind != token.Number || !whole {
		p.fail(t, "expect at least 3 listitem in #departures", "a whole number is missing before %s", t)
	}
	return &ExpectCount{s, p.element(), compare, n}
}

func readComparison(p *parser, s Step) Statement {
	left := p.expression()
	t := p.next()
	if t.Kind != token.Sign || !strings.Contains(" = < > <= >= ", " "+t.Text+" ") {
		p.fail(t, "compare with =, <, >, <= or >=", "a comparison is missing before %s", t)
	}
	return &ExpectNumber{s, left, t.Text, p.expression()}
}

func (s *ExpectShown) parts() []Node  { return []Node{s.Element} }
func (s *ExpectShows) parts() []Node  { return []Node{s.Element, s.Value} }
func (s *ExpectCount) parts() []Node  { return []Node{s.Element} }
func (s *ExpectNumber) parts() []Node { return []Node{s.Left, s.Right} }

func (s *ExpectShown) expects()  {}
func (s *ExpectShows) expects()  {}
func (s *ExpectCount) expects()  {}
func (s *ExpectNumber) expects() {}

func (s *ExpectShown) absence() bool { return s.No }
func (s *ExpectCount) absence() bool { return s.Compare == "<=" || s.Count == 0 }

// content: a count that was reached while the step waited has been reached.
func (s *ExpectCount) content(j judged) bool { return j.reached }

func (s *ExpectShown) words() string {
	if s.No {
		return "expect no " + s.Element.words()
	}
	return "expect " + s.Element.words()
}

func (s *ExpectShows) words() string {
	return "expect " + s.Element.words() + " shows " + s.Value.words()
}

var countWords = map[string]string{"=": "", ">=": "at least ", "<=": "at most "}

func (s *ExpectCount) words() string {
	return fmt.Sprintf("expect %s%d %s", countWords[s.Compare], s.Count, s.Element.words())
}

func (s *ExpectNumber) words() string {
	return "expect " + s.Left.words() + " " + s.Compare + " " + s.Right.words()
}

func (s *ExpectShown) run(r *runner) *stop {
	expected := s.Element.Text + " to be shown"
	if s.No {
		expected = "no " + s.Element.Text
	}
	_, stopped := r.judge(s, expected, func(t *screen.Tree) sight {
		l, nodes := r.find(s.Element, t)
		shown := t.Shown(nodes)
		switch {
		case s.No && len(shown) > 0:
			return sight{cause: Contradicted, nodes: shown, actual: fmt.Sprintf("%s is shown", screen.Describe(shown[0]))}
		case !s.No && len(shown) == 0 && len(nodes) > 0:
			return sight{cause: Contradicted, nodes: nodes[:1], actual: "it is there but " + unseen(nodes[0])}
		case !s.No && len(shown) == 0:
			return r.absent(s.Element, l, t)
		}
		return sight{ok: true}
	})
	if stopped == nil && s.absence() {
		r.doubt(s.Element)
	}
	return stopped
}

// doubt notes on a step that what it found absent may be misspelt.
func (r *runner) doubt(e *Element) {
	if !r.known(e) {
		r.doubted = e.Text
		r.note = "this proves little: nothing has ever matched " + e.Text + " in this app"
	}
}

func (r *runner) known(e *Element) bool {
	return r.o.Known(e.Text) || slices.Contains(r.matched, e.Text)
}

func (s *ExpectShows) run(r *runner) *stop {
	var wanted amount.Value
	_, stopped := r.judge(s, s.Element.Text+" to show what is on the right", func(t *screen.Tree) sight {
		saw := r.readable(s.Element, t)
		if !saw.ok {
			return saw
		}
		right := s.Value.compute(r, t)
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
		stopped.failure.Expected = fmt.Sprintf("%s to show %s", s.Element.Text, wanted.Quoted())
	}
	return stopped
}

// same reports whether what is shown is a value and nothing else, and if not, what is
// not to be seen of the difference.
func same(shows string, wanted amount.Value, language string) (why string, same bool) {
	if wanted.IsNumber() {
		n, err := screen.BareNumber(shows, language)
		if err != nil {
			return ": " + err.Error(), false
		}
		return "", n.Cmp(wanted.Number) == 0
	}
	if screen.Fold(shows) == screen.Fold(wanted.Text) {
		return "", true
	}
	if how := screen.Disguised(shows, wanted.Text); how != "" {
		return ", which looks the same, but " + how, false
	}
	return "", false
}

func (s *ExpectCount) run(r *runner) *stop {
	_, stopped := r.judge(s, fmt.Sprintf("%s%d %s", countWords[s.Compare], s.Count, s.Element.Text),
		func(t *screen.Tree) sight {
			l, nodes := r.find(s.Element, t)
			shown := t.Shown(nodes)
			n := len(shown)
			switch {
			case amount.Compare(big.NewRat(int64(n), 1), s.Compare, big.NewRat(int64(s.Count), 1)):
				return sight{ok: true}
			case len(nodes) == 0:
				return r.absent(s.Element, l, t)
			}
			return sight{cause: Contradicted, actual: fmt.Sprintf("there are %d", n), nodes: shown}
		})
	if stopped == nil && s.absence() {
		r.doubt(s.Element)
	}
	return stopped
}

func (s *ExpectNumber) run(r *runner) *stop {
	var right amount.Value
	expected := fmt.Sprintf("%s %s %s", s.Left.told(), s.Compare, s.Right.told())
	_, stopped := r.judge(s, expected, func(t *screen.Tree) sight {
		a, b := s.Left.compute(r, t), s.Right.compute(r, t)
		for _, side := range []sight{a, b} {
			if !side.ok {
				return side
			}
		}
		left := a.value
		right = b.value
		if !left.IsNumber() || !right.IsNumber() {
			text := left
			if left.IsNumber() {
				text = right
			}
			return sight{cause: NotANumber, actual: text.Quoted() + " is a text, not a number"}
		}
		if amount.Compare(left.Number, s.Compare, right.Number) {
			return sight{ok: true}
		}
		return sight{cause: Contradicted, actual: fmt.Sprintf("it is %s", left) + shown(s.Left, a.nodes),
			nodes: append(a.nodes, b.nodes...)}
	})
	if stopped != nil && stopped.failure.Cause == Contradicted {
		stopped.failure.Expected = fmt.Sprintf("%s %s %s", s.Left.told(), s.Compare, right)
	}
	return stopped
}

// shown tells what an element shows that a number was read from.
func shown(v Value, nodes []*screen.Node) string {
	n, ok := v.(*NumberIn)
	if !ok || len(nodes) != 1 {
		return ""
	}
	return fmt.Sprintf(": %s shows %q", n.Element.Text, clipText(nodes[0].Content()))
}

// valueWhenSettled computes a value. What it reads from the screen is read when
// that has settled.
func (r *runner) valueWhenSettled(st Statement, v Value) (amount.Value, *stop) {
	reads := false
	Inspect(v, func(n Node) bool {
		_, isElement := n.(*Element)
		reads = reads || isElement
		return true
	})
	if !reads {
		saw := v.compute(r, nil)
		if !saw.ok {
			return amount.Value{}, r.stop(st, saw.cause, "a value", saw.actual)
		}
		return saw.value, nil
	}
	saw, stopped := r.judge(st, "a value to read", func(t *screen.Tree) sight {
		saw := v.compute(r, t)
		saw.key = saw.value.String()
		return saw
	})
	return saw.value, stopped
}
