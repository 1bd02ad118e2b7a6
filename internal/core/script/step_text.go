package script

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// The steps that enter text and press keys.
type (
	// Set replaces what a field holds.
	Set struct {
		Step
		Value   Value
		Element *Element
	}
	// Type presses keys, in Into if that is given.
	Type struct {
		Step
		Value Value
		Into  *Element
	}
	// Clear empties a field.
	Clear struct {
		Step
		Element *Element
	}
	// Choose takes one of what an element offers.
	Choose struct {
		Step
		Value   Value
		Element *Element
	}
	// Press presses one key of the device.
	Press struct {
		Step
		Key string
	}
)

func init() {
	add(
		form{word: "set", usage: "set E to V", read: func(p *parser, s Step) Statement {
			e := p.element()
			if t := p.peek(); t.Is("in") || t.Is("as") || t.IsSign("=") {
				p.fail(t, "write: set E to V", "`to` is missing before %s", t)
			}
			p.want("to")
			return &Set{s, p.expression(), e}
		}},
		form{word: "put", usage: "set E to V", read: readPut},
		form{word: "fill", usage: "set E to V", read: readFill},
		form{word: "type", usage: "type V [into E]", read: readType},
		form{word: "clear", usage: "clear E", read: func(p *parser, s Step) Statement {
			return &Clear{s, p.element()}
		}},
		form{word: "choose", usage: "choose V in E", read: func(p *parser, s Step) Statement {
			p.targetFollows = true
			v := p.expression()
			p.targetFollows = false
			p.want("in")
			return &Choose{s, v, p.element()}
		}},
		form{word: "press", usage: "press " + strings.Join(keyNames(), "|"), read: readPress},
	)
}

// readPut reads what a field is to hold as it was written before. The `in` after the value names the field: a
// number in an element that lies in another stands in brackets.
func readPut(p *parser, s Step) Statement {
	p.asBefore(s.Pos, len("put"))
	p.targetFollows = true
	v := p.expression()
	p.targetFollows = false
	if t := p.peek(); t.Is("into") {
		p.fail(t, "write: set E to V", "`put` is written otherwise now")
	}
	p.want("in")
	return &Set{s, v, p.element()}
}

// readFill refuses what was written in the beginning, and says how it is written now.
func readFill(p *parser, s Step) Statement {
	from := p.tokens[p.at-1]
	field := p.at
	p.element()
	to := p.at
	p.want("with")
	value := p.at
	p.expression()
	p.failAt(from.Pos, from.Length, fmt.Sprintf("write: set %s to %s", p.between(field, to), p.between(value, p.at)),
		"what a field holds is replaced by `set E to V`")
	return nil
}

// between is what was written from one token up to another.
func (p *parser) between(from, to int) string {
	var b strings.Builder
	for i := from; i < to; i++ {
		if i > from && p.tokens[i].Pos.Column > p.tokens[i-1].Pos.Column+p.tokens[i-1].Length {
			b.WriteByte(' ')
		}
		b.WriteString(p.tokens[i].Raw)
	}
	return b.String()
}

func readType(p *parser, s Step) Statement {
	t := &Type{Step: s, Value: p.expression()}
	if p.accept("into") {
		t.Into = p.element()
	}
	return t
}

func readPress(p *parser, s Step) Statement {
	t := p.next()
	if _, ok := Keys[t.Text]; t.Kind == token.Word && ok {
		return &Press{s, t.Text}
	}
	hint := token.Meant(t.Raw, keyNames())
	if t.Kind == token.String || t.Kind == token.ID || Roles[t.Text] && t.Kind == token.Word {
		hint = "to touch an element: tap E"
	}
	p.fail(t, hint, "there is no key %s; there are %s", t, strings.Join(keyNames(), ", "))
	return nil
}

// Keys are what press knows, and the ability each needs, if any. The characters
// are those of W3C WebDriver, 17.4.2, keyboard actions.
var Keys = map[string]struct {
	Character string
	Ability   string
}{
	"enter":     {"\uE007", ""},
	"tab":       {"\uE004", ""},
	"escape":    {"\uE00C", ""},
	"backspace": {"\uE003", ""},
	"back":      {"", "back"},
	"home":      {"", "home"},
}

func keyNames() []string {
	names := []string{}
	for k := range Keys {
		names = append(names, k)
	}
	slices.Sort(names)
	return names
}

func (s *Set) parts() []Node    { return []Node{s.Element, s.Value} }
func (s *Press) parts() []Node  { return nil }
func (s *Clear) parts() []Node  { return elements(s.Element) }
func (s *Choose) parts() []Node { return []Node{s.Value, s.Element} }

func (s *Type) parts() []Node {
	if s.Into == nil {
		return []Node{s.Value}
	}
	return []Node{s.Value, s.Into}
}

func (s *Set) words() string    { return "set " + s.Element.words() + " to " + s.Value.words() }
func (s *Choose) words() string { return "choose " + beforeIn(s.Value) + " in " + s.Element.words() }
func (s *Clear) words() string  { return "clear " + s.Element.words() }

// beforeIn writes a value that an `in` follows: one that has an `in` of its own between
// elements, or that reads from the screen, stands in brackets.
func beforeIn(v Value) string {
	inner := false
	Inspect(v, func(n Node) bool {
		e, ok := n.(*Element)
		inner = inner || ok && e.Relation == screen.In
		return true
	})
	if inner {
		return "(" + v.words() + ")"
	}
	return v.words()
}

func (s *Type) words() string {
	if s.Into == nil {
		return "type " + s.Value.words()
	}
	return "type " + s.Value.words() + " into " + s.Into.words()
}

func (s *Press) words() string { return "press " + s.Key }

func (s *Set) content(j judged) bool    { return j.steady }
func (s *Type) content(j judged) bool   { return j.steady }
func (s *Clear) content(j judged) bool  { return j.steady }
func (s *Choose) content(j judged) bool { return j.steady }

func (s *Press) needs() []string {
	if a := Keys[s.Key].Ability; a != "" {
		return []string{a}
	}
	return nil
}

func (s *Set) run(r *runner) *stop {
	v, stopped := r.valueWhenSettled(s, s.Value)
	if stopped != nil {
		return stopped
	}
	if stopped := r.empty(s, s.Element); stopped != nil {
		return stopped
	}
	return r.act(s, device.EnterText(r.ctx, r.device, v.String()))
}

func (s *Clear) run(r *runner) *stop { return r.empty(s, s.Element) }

// empty puts the mark behind what a field holds and takes that away.
func (r *runner) empty(st Statement, e *Element) *stop {
	if stopped := r.focus(st, e); stopped != nil {
		return stopped
	}
	saw, stopped := r.judge(st, e.Text+" to hold what is typed", func(t *screen.Tree) sight {
		return r.readable(e, t)
	})
	if stopped != nil {
		return stopped
	}
	away := "\uE010" + strings.Repeat("\uE003", len([]rune(saw.nodes[0].Value)))
	return r.act(st, r.device.Keys(r.ctx, away))
}

// offers are the roles of what can be chosen, those that are there for it first.
var offers = [][]string{{"option"}, {"menuitem", "radio", "treeitem"}, {"listitem", "tab", "gridcell"},
	{"button", "link"}}

// run chooses: an option that can be seen in the element already is tapped; else the element is
// tapped first, which brings its options up.
func (s *Choose) run(r *runner) *stop {
	v, stopped := r.valueWhenSettled(s, s.Value)
	if stopped != nil {
		return stopped
	}
	wanted := v.String()
	saw, stopped := r.judge(s, s.Element.Text+" to choose in", func(t *screen.Tree) sight {
		saw := r.readable(s.Element, t)
		if !saw.ok {
			return saw
		}
		if n := offered(t, wanted, saw.nodes[0]); n != nil {
			if n.Disabled {
				return sight{cause: Unusable, actual: r.describe(n) + " is disabled", nodes: []*screen.Node{n}}
			}
			return sight{ok: true, nodes: []*screen.Node{n}, key: fmt.Sprint("open", n.Visible)}
		}
		return r.usable(s.Element)(t)
	})
	if stopped != nil {
		return stopped
	}
	chosen := saw.nodes[0]
	if strings.HasPrefix(saw.key, "open") {
		return r.act(s, r.device.Tap(r.ctx, chosen.Visible.Centre()))
	}
	if stopped := r.act(s, r.device.Tap(r.ctx, chosen.Visible.Centre())); stopped != nil {
		return stopped
	}
	for range maxSwipes {
		saw, stopped = r.judge(s, fmt.Sprintf("%q to be offered", r.clip(wanted)), func(t *screen.Tree) sight {
			n := offered(t, wanted, nil)
			switch {
			case n == nil:
				near := screen.Locator{Label: screen.Match{Text: wanted}}.Nearest(t, 3)
				return sight{cause: Contradicted, actual: "it is not among what is offered" + r.nearest(near),
					nodes: near}
			case n.Disabled:
				return sight{cause: Unusable, actual: r.describe(n) + " is disabled", nodes: []*screen.Node{n}}
			}
			return sight{ok: true, nodes: []*screen.Node{n}, key: fmt.Sprint(n.Visible)}
		})
		if stopped != nil {
			return stopped
		}
		n := saw.nodes[0]
		if n.OnScreen() {
			return r.act(s, r.device.Tap(r.ctx, n.Visible.Centre()))
		}
		tree, err := r.device.Tree(r.ctx)
		if err != nil {
			return r.trouble(s, err)
		}
		area, _ := r.scrolled(nil, found{nodes: []*screen.Node{n}}, tree)
		way := toward(n, area)
		if way == (screen.Point{}) {
			break
		}
		if stopped := r.perform(s, swipe(area, way, stretch(n, area, way))); stopped != nil {
			return stopped
		}
	}
	return r.stop(s, Unusable, fmt.Sprintf("%q to be offered", r.clip(wanted)), "it cannot be scrolled into sight")
}

// offered is what a person would choose by a text: what has a role that is there for it, in
// something where that is named, else anywhere; shown before out of sight.
func offered(t *screen.Tree, text string, in *screen.Node) *screen.Node {
	root := in
	if root == nil {
		root = t.Root
	}
	for _, roles := range offers {
		var hidden *screen.Node
		for _, role := range roles {
			for _, n := range (screen.Locator{Role: role,
				Called: screen.Match{Text: text}}).Find(&screen.Tree{Root: root, Language: t.Language}) {
				switch {
				case n == in:
				case len(t.Shown([]*screen.Node{n})) > 0:
					return n
				case hidden == nil && in == nil:
					hidden = n
				}
			}
		}
		if hidden != nil && role(roles) {
			return hidden
		}
	}
	if in != nil {
		return nil
	}
	if shown := t.Shown((screen.Locator{Label: screen.Match{Text: text}}).Find(t)); len(shown) == 1 {
		return shown[0]
	}
	return nil
}

// role reports whether roles are there to be chosen, so that what is out of sight is scrolled to.
func role(roles []string) bool { return roles[0] == "option" || roles[0] == "menuitem" }

func (s *Type) run(r *runner) *stop {
	v, stopped := r.valueWhenSettled(s, s.Value)
	if stopped != nil {
		return stopped
	}
	if s.Into != nil {
		if stopped := r.focus(s, s.Into); stopped != nil {
			return stopped
		}
	}
	return r.act(s, device.EnterText(r.ctx, r.device, v.String()))
}

func (s *Press) run(r *runner) *stop {
	key := Keys[s.Key]
	if key.Ability == "" {
		return r.act(s, r.device.Keys(r.ctx, key.Character))
	}
	p, ok := device.As[device.Presser](r.device)
	if !ok || !slices.Contains(r.device.Abilities(), key.Ability) {
		return r.trouble(s, fmt.Errorf("%w: it has no key `%s`", device.ErrNoAbility, s.Key))
	}
	return r.act(s, p.Press(r.ctx, s.Key))
}

// focus taps a field and waits until it takes keys.
func (r *runner) focus(st Statement, e *Element) *stop {
	if stopped := r.tap(st, e); stopped != nil {
		return stopped
	}
	_, stopped := r.judge(st, e.Text+" to take keys", func(t *screen.Tree) sight {
		saw := r.readable(e, t)
		if saw.ok && !saw.nodes[0].Focused {
			return sight{cause: Unusable, actual: "it does not take the focus when tapped", nodes: saw.nodes}
		}
		return saw
	})
	return stopped
}
