package script

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// Expect is an expectation: a condition that has to come to hold.
type Expect struct {
	Step
	Condition Condition
}

// Condition is what is expected, or decided by. The kinds stand in this file and in
// step_device.go.
type Condition interface {
	Node
	// words is the one way to write it.
	words() string
	// expected is how a report tells what was expected.
	expected(r *runner) string
	// view judges a screen.
	view(r *runner, t *screen.Tree) sight
}

// What a condition may say of itself besides.
type (
	// lasting is one that is content as soon as it has held, settled or not.
	lasting interface{ atOnce() bool }
	// told is one that tells better than expected what was expected, once it has been judged.
	telling interface{ wanted(r *runner) string }
)

// The conditions on elements and values.
type (
	// Shown holds where an element is seen, or none with No.
	Shown struct {
		Element *Element
		No      bool
	}
	// Shows holds where an element's content is a value, has it in it, or is one that a pattern
	// finds.
	Shows struct {
		Element *Element
		How     string // shows, contains, matches
		Value   Value
		Pattern *Wanted
	}
	// CameUp holds where an element has been seen since the last action.
	CameUp struct{ Element *Element }
	// State holds where an element is in a state.
	State struct {
		Element *Element
		State   string
	}
	// Lies holds where an element lies so to another.
	Lies struct {
		Element *Element
		How     string // left of, right of, above, below, inside, as wide as, clear of
		Other   *Element
	}
	// Count holds where so many elements are seen.
	Count struct {
		Compare string // "=", ">=", "<="
		Number  Value
		Element *Element
	}
	// Compared holds where two values stand to each other so.
	Compared struct {
		Left    Value
		Compare string // = != < > <= >=
		Right   Value
	}
)

func init() {
	add(form{word: "expect", usage: "expect [no] E · expect E shows|contains V · expect E matches /…/ · expect E came up · " +
		"expect E is " + strings.Join(stateNames(), "|") +
		" · expect E is left of|right of|above|below|inside|as wide as|clear of F · " +
		"expect V =|!=|<|>|<=|>= V · expect [at least|at most] N E · expect app is running|in front · expect [no] log matches /…/ · " +
		"expect no errors in log · expect start within 2s · expect memory below 200MB · expect screen is accessible; each [for 2s]",
		read: func(p *parser, s Step) Statement { return &Expect{s, p.condition()} }})
}

// condition reads what is expected.
func (p *parser) condition() Condition {
	t := p.peek()
	next := p.tokens[min(p.at+1, len(p.tokens)-1)]
	if c := p.deviceCondition(); c != nil {
		return c
	}
	switch {
	case p.accept("no"):
		return &Shown{p.element(), true}
	case t.Is("at") && (next.Is("least") || next.Is("most")):
		p.next()
		compare := map[bool]string{true: ">=", false: "<="}[p.next().Is("least")]
		return p.count(compare, p.countValue())
	case t.Kind == token.Number, t.Kind == token.Variable, t.IsSign("("), t.IsSign("-"), t.Kind == token.Percent,
		(t.Is("number") || t.Is("text")) && (next.Is("in") || next.Is("matching")), t.Is("count") && next.Is("of"),
		t.Is("secret") && next.Kind == token.String:
		return p.comparison()
	case t.Kind == token.String && (compares(next) || next.IsSign("+")), t.Is("word") && p.wordCompared():
		return p.comparison()
	}
	return p.ofElement()
}

// wordCompared reports whether word(…) is followed by a comparison.
func (p *parser) wordCompared() bool {
	depth := 0
	for i := p.at + 1; !p.tokens[i].EndsLine(); i++ {
		switch t := p.tokens[i]; {
		case t.IsSign("("):
			depth++
		case t.IsSign(")"):
			if depth--; depth == 0 {
				return compares(p.tokens[i+1])
			}
		}
	}
	return false
}

func compares(t token.Token) bool {
	return t.Kind == token.Sign && slices.Contains([]string{"=", "!=", "<", ">", "<=", ">="}, t.Text)
}

// comparison reads two values that are compared, or a count of elements.
func (p *parser) comparison() Condition {
	left := p.expression()
	t := p.peek()
	if compares(t) {
		p.next()
		return &Compared{left, t.Text, p.expression()}
	}
	_, number := left.(*Number)
	_, variable := left.(*Variable)
	if _, sum := left.(*Binary); !number && !variable && !sum || t.EndsLine() || t.Kind == token.Sign {
		p.fail(t, "compare with =, !=, <, >, <= or >=", "a comparison is missing before %s", t)
	}
	return p.count("=", left)
}

// countValue reads how many there are to be.
func (p *parser) countValue() Value {
	t := p.peek()
	if t.Kind != token.Number && t.Kind != token.Variable && !t.IsSign("(") {
		p.fail(t, "expect at least 3 listitem in #departures", "a whole number is missing before %s", t)
	}
	return p.expression()
}

func (p *parser) count(compare string, n Value) Condition {
	if number, ok := n.(*Number); ok {
		if _, whole := token.Whole(number.Value); !whole {
			p.fail(p.tokens[p.at-1], "expect at least 3 listitem in #departures", "a whole number is missing before %s",
				p.peek())
		}
	}
	return &Count{compare, n, p.element()}
}

// ofElement reads what is expected of an element.
func (p *parser) ofElement() Condition {
	e := p.element()
	switch t := p.peek(); {
	case t.Is("shows"), t.Is("contains"):
		p.next()
		if m := p.peek(); m.Kind == token.Pattern {
			p.fail(m, fmt.Sprintf("write: expect %s matches %s", e.words(), m.Raw), "a pattern is no value")
		}
		return &Shows{Element: e, How: t.Text, Value: p.expression()}
	case t.Is("matches"):
		p.next()
		return &Shows{Element: e, How: t.Text, Pattern: p.wanted(p.next())}
	case t.Is("came"):
		p.next()
		p.want("up")
		return &CameUp{e}
	case t.Is("is"):
		p.next()
		return p.is(e)
	case t.Kind == token.Sign:
		p.fail(t, fmt.Sprintf("to compare the number in it: expect number in %s %s …; its text: expect %s shows …",
			e.words(), t.Raw, e.words()), "an element cannot be compared with %s", t)
	case t.Is("show"), t.Is("has"), t.Is("equals"), t.Is("be"), t.Is("to"), t.Is("says"):
		p.fail(t, fmt.Sprintf("write: expect %s shows \"…\"", e.words()), "%s is not expected here", t)
	}
	return &Shown{e, false}
}

// is reads the state that an element is in, or how it lies.
func (p *parser) is(e *Element) Condition {
	t := p.next()
	switch {
	case t.Is("left"), t.Is("right"):
		p.want("of")
		return &Lies{e, t.Text + " of", p.element()}
	case t.Is("above"), t.Is("below"), t.Is("inside"):
		return &Lies{e, t.Text, p.element()}
	case t.Is("as"):
		p.wantPhrase("wide", "as")
		return &Lies{e, "as wide as", p.element()}
	case t.Is("clear"):
		p.want("of")
		if p.accept("cut-outs") || p.accept("cutouts") {
			return &State{e, "clear of cut-outs"}
		}
		return &Lies{e, "clear of", p.element()}
	case t.Is("not"):
		hint := "each state has its opposite: enabled and disabled, checked and unchecked"
		if opposite := opposites[p.peek().Text]; opposite != "" {
			hint = fmt.Sprintf("write: expect %s is %s", e.words(), opposite)
		}
		p.fail(t, hint, "that something is not so is not written with `not`")
	case t.Is("shown"), t.Is("visible"), t.Is("there"), t.Is("displayed"), t.Is("present"):
		p.fail(t, "write: expect "+e.words(), "%s is what `expect` means without it", t)
	case t.Is("hidden"), t.Is("gone"), t.Is("absent"):
		p.fail(t, "write: expect no "+e.words(), "%s is what `expect no` means", t)
	case t.Kind == token.Word && states[t.Text].holds != nil:
		return &State{e, t.Text}
	}
	p.fail(t, token.Meant(t.Raw, stateNames()), "%s is no state that an element can be in; there are %s", t,
		strings.Join(stateNames(), ", "))
	return nil
}

var opposites = map[string]string{"enabled": "disabled", "disabled": "enabled", "checked": "unchecked",
	"unchecked": "checked"}

// states are the states that elements can be in: what tells them, and what is said where they
// are not.
var states = map[string]struct {
	holds func(t *screen.Tree, n *screen.Node) bool
	else_ func(t *screen.Tree, n *screen.Node) string
}{
	"enabled":  {func(_ *screen.Tree, n *screen.Node) bool { return !n.Disabled }, says("it is disabled")},
	"disabled": {func(_ *screen.Tree, n *screen.Node) bool { return n.Disabled }, says("it is enabled")},
	"checked": {func(_ *screen.Tree, n *screen.Node) bool { return n.Checked == "true" },
		func(_ *screen.Tree, n *screen.Node) string {
			return map[string]string{"mixed": "it is partly checked", "": "it is nothing that can be checked"}[n.Checked] +
				map[bool]string{true: "it is not checked"}[n.Checked == "false"]
		}},
	"unchecked": {func(_ *screen.Tree, n *screen.Node) bool { return n.Checked == "false" },
		func(_ *screen.Tree, n *screen.Node) string {
			return map[string]string{"mixed": "it is partly checked", "": "it is nothing that can be checked",
				"true": "it is checked"}[n.Checked]
		}},
	"focused":  {func(_ *screen.Tree, n *screen.Node) bool { return n.Focused }, says("it has not the focus")},
	"selected": {func(_ *screen.Tree, n *screen.Node) bool { return n.Selected }, says("it is not selected")},
	"whole": {func(t *screen.Tree, n *screen.Node) bool { why, _ := t.Whole(n); return why == "" },
		func(t *screen.Tree, n *screen.Node) string { why, _ := t.Whole(n); return why }},
	"clear of cut-outs": {func(t *screen.Tree, n *screen.Node) bool { return !t.InCutout(n) },
		says("a part of it lies under a cut-out")},
}

func says(words string) func(*screen.Tree, *screen.Node) string {
	return func(*screen.Tree, *screen.Node) string { return words }
}

func stateNames() []string {
	return []string{"enabled", "disabled", "checked", "unchecked", "focused", "selected", "whole", "clear of cut-outs"}
}

func (s *Expect) parts() []Node { return []Node{s.Condition} }
func (s *Expect) words() string { return "expect " + s.Condition.words() }
func (s *Expect) expects()      {}

func (c *Shown) parts() []Node    { return elements(c.Element) }
func (c *CameUp) parts() []Node   { return elements(c.Element) }
func (c *State) parts() []Node    { return elements(c.Element) }
func (c *Lies) parts() []Node     { return elements(c.Element, c.Other) }
func (c *Count) parts() []Node    { return []Node{c.Number, c.Element} }
func (c *Compared) parts() []Node { return []Node{c.Left, c.Right} }

func (c *Shows) parts() []Node {
	if c.Value != nil {
		return append(elements(c.Element), c.Value)
	}
	return append(elements(c.Element), c.Pattern.parts()...)
}

// absence: an expectation, or a condition in one, that may be content with an element that is
// not there.
func (s *Expect) absence() bool {
	a, ok := s.Condition.(absent)
	return ok && a.absence()
}

func (c *Shown) absence() bool { return c.No }

func (c *Count) absence() bool {
	n, ok := c.Number.(*Number)
	return c.Compare == "<=" || ok && n.Value.Sign() == 0
}

// content: what came up has come up; and what is expected to be there, and has been so for as long as
// a screen takes to settle, is there, whatever else goes on moving about it. That something is not
// there can only be told of a screen that has come to rest.
func (s *Expect) content(j judged) bool {
	if _, up := s.Condition.(*CameUp); up {
		return j.ok
	}
	return j.steady && !j.tree.Busy && !s.absence()
}

func (c *CameUp) atOnce() bool { return true }

func (s *Expect) needs() []string {
	if n, ok := s.Condition.(needing); ok {
		return n.needs()
	}
	return nil
}

func (s *Expect) advice() (message, hint string) {
	if v, ok := s.Condition.(vain); ok {
		return v.advice()
	}
	return "", ""
}

func (c *Compared) advice() (message, hint string) {
	constant := true
	for _, v := range []Value{c.Left, c.Right} {
		Inspect(v, func(n Node) bool {
			switch n := n.(type) {
			case *Element, *Variable, *Secret, *Word:
				constant = false
			case *Template:
				for _, p := range n.Parts {
					constant = constant && p.Variable == ""
				}
			}
			return true
		})
	}
	if constant || c.Left.words() == c.Right.words() {
		return "this compares what never changes: it always ends the same",
			"compare with what the screen shows: number in E"
	}
	return "", ""
}

func (c *Count) advice() (message, hint string) {
	if n, ok := c.Number.(*Number); ok && c.Compare == ">=" && n.Value.Sign() == 0 {
		return "this cannot fail: there are always at least 0", "expect at least 1, or expect no E"
	}
	return "", ""
}

func (c *Shows) advice() (message, hint string) {
	v, text := c.Value.(*Text)
	empty := text && len(v.Template.Parts) == 0
	if c.How == "contains" && empty || c.How == "matches" && c.Pattern.Pattern != nil &&
		c.Pattern.Pattern.MatchString("") &&
		strings.Trim(c.Pattern.Pattern.String(), ".*?^") == "" {
		return "this cannot fail: every text has it in it", "say what the text has to hold"
	}
	return "", ""
}

func (c *Shown) words() string {
	if c.No {
		return "no " + c.Element.words()
	}
	return c.Element.words()
}

func (c *Shows) words() string {
	if c.How == "matches" {
		return c.Element.words() + " matches " + c.Pattern.words()
	}
	return c.Element.words() + " " + c.How + " " + c.Value.words()
}

func (c *CameUp) words() string { return c.Element.words() + " came up" }
func (c *State) words() string  { return c.Element.words() + " is " + c.State }
func (c *Lies) words() string   { return c.Element.words() + " is " + c.How + " " + c.Other.words() }

var countWords = map[string]string{"=": "", ">=": "at least ", "<=": "at most "}

func (c *Count) words() string {
	n := c.Number.words()
	if _, sum := c.Number.(*Binary); sum {
		n = "(" + n + ")"
	}
	return countWords[c.Compare] + n + " " + c.Element.words()
}

func (c *Compared) words() string { return c.Left.words() + " " + c.Compare + " " + c.Right.words() }

func (c *Shown) expected(*runner) string {
	if c.No {
		return "no " + c.Element.Text
	}
	return c.Element.Text + " to be shown"
}

func (c *Shows) expected(r *runner) string {
	switch c.How {
	case "contains":
		return c.Element.Text + " to contain " + r.asked(c.Value)
	case "matches":
		return c.Element.Text + " to match " + c.Pattern.words()
	}
	return c.Element.Text + " to show " + r.asked(c.Value)
}

// asked tells what was asked for: as it came out, or where there was nothing to hold it to, as it can be
// computed without a screen, or at least as it is written.
func (r *runner) asked(v Value) string {
	if r.wantedOf == v {
		return r.quoted(r.wanted)
	}
	if t, ok := v.(*Text); ok {
		if saw := t.compute(r, nil); saw.ok {
			return r.quoted(saw.value)
		}
	}
	return v.told()
}

// want notes what a condition wanted, as it came out.
func (r *runner) want(v Value, is amount.Value) { r.wanted, r.wantedOf = is, v }

func (c *CameUp) expected(*runner) string { return c.Element.Text + " to come up" }
func (c *State) expected(*runner) string  { return c.Element.Text + " to be " + c.State }
func (c *Lies) expected(*runner) string {
	return c.Element.Text + " to be " + c.How + " " + c.Other.Text
}

func (c *Count) expected(r *runner) string {
	if n, ok := c.Number.(*Number); ok {
		return countWords[c.Compare] + n.words() + " " + c.Element.Text
	}
	return countWords[c.Compare] + r.asked(c.Number) + " " + c.Element.Text
}

func (c *Compared) expected(r *runner) string {
	return fmt.Sprintf("%s %s %s", c.Left.told(), c.Compare, c.Right.told())
}

// wanted tells the right side by its value, where there was one.
func (c *Compared) wanted(r *runner) string {
	return fmt.Sprintf("%s %s %s", c.Left.told(), c.Compare, r.asked(c.Right))
}

// run waits for the condition to hold, and for as long as it has to stay so.
func (s *Expect) run(r *runner) *stop {
	r.want(nil, amount.Value{})
	r.expecting = true
	defer func() { r.expecting = false }()
	_, stopped := r.judge(s, "", func(t *screen.Tree) sight { return s.Condition.view(r, t) })
	if stopped != nil {
		stopped.tell(s.Condition.expected(r))
		if t, ok := s.Condition.(telling); ok && stopped.failure.Cause == Contradicted {
			stopped.tell(t.wanted(r))
		}
		return stopped
	}
	if s.absence() {
		if e := s.Condition.parts(); len(e) > 0 {
			r.doubt(e[len(e)-1].(*Element))
		}
	}
	if s.For > 0 {
		return r.stays(s)
	}
	return nil
}

// stays watches that a condition that holds goes on to hold.
func (r *runner) stays(s *Expect) *stop {
	from := r.device.Now()
	for {
		tree, err := r.device.Tree(r.ctx)
		if err != nil {
			return r.trouble(s, err)
		}
		now := r.device.Now()
		r.settling.See(tree, now)
		if saw := s.Condition.view(r, tree); !saw.ok {
			stopped := r.stop(s, Contradicted, s.Condition.expected(r)+" for "+durationWords(s.For),
				fmt.Sprintf("after %s it was not so any more: %s", short(now-from), saw.actual))
			stopped.failure.WaitedMS = (now - from).Milliseconds()
			r.mark(stopped, saw.nodes)
			return stopped
		}
		if now-from >= s.For {
			return nil
		}
		if err := r.pass(tree.Revision, from+s.For); err != nil {
			return r.trouble(s, err)
		}
	}
}

// holds tells whether a condition holds on the screen once that has settled; it is not waited
// for.
func (r *runner) holds(st Statement, c Condition) (bool, *stop) {
	holds := false
	r.expecting = true
	defer func() { r.expecting = false }()
	_, stopped := r.judge(st, "a screen to decide by", func(t *screen.Tree) sight {
		saw := c.view(r, t)
		r.undecided, r.doubted = "", ""
		switch {
		case saw.ok:
		case saw.cause == NeverMatched:
			r.undecided, r.doubted = ", and so decided by nothing: "+saw.actual, saw.locator
		case saw.cause == NotANumber:
			r.undecided = ", and so decided by nothing: " + saw.actual
		}
		if !saw.ok && saw.final {
			return saw
		}
		holds = saw.ok
		return sight{ok: true, nodes: saw.nodes, key: fmt.Sprint(saw.ok)}
	})
	return holds, stopped
}

func (c *Shown) view(r *runner, t *screen.Tree) sight {
	saw := r.find(c.Element, t)
	switch {
	case saw.trouble != nil:
		return *saw.trouble
	case c.No && len(saw.shown) > 0:
		return sight{cause: Contradicted, nodes: saw.shown, actual: fmt.Sprintf("%s is shown",
			r.describe(saw.shown[0]))}
	case !c.No && len(saw.shown) == 0 && len(saw.nodes) > 0:
		return sight{cause: Contradicted, nodes: saw.nodes[:1], actual: "it is there but " + unseen(saw.nodes[0], t)}
	case !c.No && len(saw.shown) == 0:
		return r.absent(c.Element, saw.locator, t)
	}
	return sight{ok: true, nodes: saw.shown}
}

// doubt notes on a step that what it found absent may be misspelt.
func (r *runner) doubt(e *Element) {
	if !r.known(e) {
		r.doubted = e.Text
		r.note = "this proves little: nothing has ever matched " + e.Text + " in this app"
	}
}

func (r *runner) known(e *Element) bool {
	return r.o.Known(e.Text) || r.matched[e.Text]
}

func (c *Shows) view(r *runner, t *screen.Tree) sight {
	saw := r.readable(c.Element, t)
	if !saw.ok {
		return saw
	}
	shows := saw.nodes[0].Content()
	if c.How == "matches" {
		m, trouble := r.match(c.Pattern, t)
		if trouble != nil {
			return *trouble
		}
		if m.Takes(shows) {
			return sight{ok: true, key: shows, nodes: saw.nodes}
		}
		return sight{cause: Contradicted, nodes: saw.nodes, actual: fmt.Sprintf("it shows %q", r.shows(saw.nodes[0]))}
	}
	right := c.Value.compute(r, t)
	if !right.ok {
		return right
	}
	r.want(c.Value, right.value)
	if c.How == "contains" {
		if strings.Contains(screen.Fold(shows), screen.Fold(right.value.String())) {
			return sight{ok: true, key: shows, nodes: saw.nodes}
		}
		return sight{cause: Contradicted, nodes: saw.nodes, actual: fmt.Sprintf("it shows %q", r.shows(saw.nodes[0]))}
	}
	why, same := same(shows, right.value, t.Language)
	if same {
		return sight{ok: true, key: shows, nodes: saw.nodes}
	}
	return sight{cause: Contradicted, nodes: saw.nodes, actual: fmt.Sprintf("it shows %q", r.shows(saw.nodes[0])) + why,
		difference: difference(right.value.String(), screen.Fold(shows))}
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

func (c *CameUp) view(r *runner, t *screen.Tree) sight {
	saw := r.find(c.Element, t)
	switch {
	case saw.trouble != nil:
		return *saw.trouble
	case len(saw.shown) > 0:
		return sight{ok: true, nodes: saw.shown}
	}
	was := func(t *screen.Tree) bool { return len(t.Shown(saw.locator.Find(t))) > 0 }
	if from, to, ok := r.settling.LastSeen(was); ok {
		r.matched[c.Element.Text] = true
		r.note = fmt.Sprintf("it was shown for %s, until %s before", short(to-from), short(r.device.Now()-to))
		return sight{ok: true}
	}
	out := r.absent(c.Element, saw.locator, t)
	out.actual += "; it has not been shown since the last action"
	return out
}

func (c *State) view(r *runner, t *screen.Tree) sight {
	saw := r.readable(c.Element, t)
	if !saw.ok {
		return saw
	}
	n, state := saw.nodes[0], states[c.State]
	if state.holds(t, n) {
		return sight{ok: true, nodes: saw.nodes, key: c.State}
	}
	nodes := saw.nodes
	if c.State == "whole" {
		if _, cover := t.Whole(n); cover != nil {
			nodes = []*screen.Node{n, cover}
		}
	}
	return sight{cause: Contradicted, nodes: nodes, actual: r.mask(state.else_(t, n))}
}

func (c *Lies) view(r *runner, t *screen.Tree) sight {
	a, b := r.readable(c.Element, t), r.readable(c.Other, t)
	for _, side := range []sight{a, b} {
		if !side.ok {
			return side
		}
	}
	nodes := []*screen.Node{a.nodes[0], b.nodes[0]}
	x, y := nodes[0].Bounds, nodes[1].Bounds
	var holds bool
	switch c.How {
	case "as wide as":
		holds = screen.SameWidth(x, y)
	case "clear of":
		holds = x.ClearOf(y)
	case "inside":
		holds = screen.In.Holds(x, y)
	default:
		holds = screen.Relation(c.How).Holds(x, y)
	}
	if holds {
		return sight{ok: true, nodes: nodes, key: fmt.Sprint(x, y)}
	}
	return sight{cause: Contradicted, nodes: nodes, actual: c.how(x, y)}
}

// how tells how two areas lie instead.
func (c *Lies) how(x, y screen.Rect) string {
	if c.How == "as wide as" {
		return fmt.Sprintf("it is %.0f wide, and the other %.0f", x.W, y.W)
	}
	over := x.Intersect(y)
	if c.How != "inside" && !x.ClearOf(y) {
		return fmt.Sprintf("they overlap by %.0f by %.0f: it covers %s, and the other %s", over.W, over.H, area(x),
			area(y))
	}
	return fmt.Sprintf("it covers %s, and the other %s", area(x), area(y))
}

func area(r screen.Rect) string {
	return fmt.Sprintf("%.0f–%.0f across and %.0f–%.0f down", r.X, r.X+r.W, r.Y, r.Y+r.H)
}

func (c *Count) view(r *runner, t *screen.Tree) sight {
	number := c.Number.compute(r, t)
	switch {
	case !number.ok:
		return number
	case !number.value.IsNumber():
		return sight{cause: NotANumber, final: true, actual: r.quoted(number.value) + " is a text, not a number"}
	}
	r.want(c.Number, number.value)
	saw := r.find(c.Element, t)
	if saw.trouble != nil {
		return *saw.trouble
	}
	n := newRat().SetInt64(int64(len(saw.shown)))
	switch {
	case amount.Compare(n, c.Compare, number.value.Number):
		return sight{ok: true, nodes: saw.shown}
	case len(saw.nodes) == 0:
		return r.absent(c.Element, saw.locator, t)
	}
	return sight{cause: Contradicted, actual: fmt.Sprintf("there are %d", len(saw.shown)), nodes: saw.shown}
}

func (c *Compared) view(r *runner, t *screen.Tree) sight {
	a, b := c.Left.compute(r, t), c.Right.compute(r, t)
	for _, side := range []sight{a, b} {
		if !side.ok {
			return side
		}
	}
	left, right := a.value, b.value
	r.want(c.Right, right)
	nodes := append(slices.Clone(a.nodes), b.nodes...)
	equality := c.Compare == "=" || c.Compare == "!="
	if left.IsNumber() != right.IsNumber() || !left.IsNumber() && !equality {
		text := left
		if left.IsNumber() {
			text = right
		}
		return sight{cause: NotANumber, nodes: nodes, actual: r.quoted(text) + " is a text, not a number"}
	}
	var holds bool
	if left.IsNumber() {
		holds = amount.Compare(left.Number, c.Compare, right.Number)
	} else {
		holds = (screen.Fold(left.Text) == screen.Fold(right.Text)) == (c.Compare == "=")
	}
	if holds {
		return sight{ok: true, nodes: nodes, key: left.String() + "\x00" + right.String()}
	}
	out := sight{cause: Contradicted, nodes: nodes, actual: "it is " + r.quoted(left)}
	if c.Compare == "=" {
		if left.IsNumber() {
			out.difference = apartOf(right.String(), left.String())
			out.actual += apart(left, right)
		} else {
			out.difference = difference(right.String(), left.String())
		}
	}
	out.actual += r.source(c.Left, a.nodes)
	return out
}

// apart tells by how much a number is too large or too small.
func apart(left, right amount.Value) string {
	d := newRat().Sub(left.Number, right.Number)
	if d.Sign() > 0 {
		return ", " + amount.Value{Number: d}.String() + " too much"
	}
	return ", " + amount.Value{Number: d.Neg(d)}.String() + " too little"
}

// source tells what an element shows that a number was read from.
func (r *runner) source(v Value, nodes []*screen.Node) string {
	n, ok := v.(*NumberIn)
	if !ok || len(nodes) != 1 {
		return ""
	}
	return fmt.Sprintf(": %s shows %q", n.Element.Text, r.shows(nodes[0]))
}

// valueWhenSettled computes a value. What it reads from the screen is read when
// that has settled.
func (r *runner) valueWhenSettled(st Statement, v Value) (amount.Value, *stop) {
	reads := false
	Inspect(v, func(n Node) bool {
		switch n.(type) {
		case *Element, *Word:
			reads = true
		}
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
