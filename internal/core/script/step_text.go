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
	// Put replaces what a field holds.
	Put struct {
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
	// Press presses one key of the device.
	Press struct {
		Step
		Key string
	}
)

func init() {
	add(
		form{word: "put", usage: "put V in E", read: readPut},
		form{word: "fill", usage: "put V in E", read: readFill},
		form{word: "type", usage: "type V [into E]", read: readType},
		form{word: "press", usage: "press " + strings.Join(keyNames(), "|"), read: readPress},
	)
}

// readPut reads what a field is to hold. The `in` after the value names the field: a
// number in an element that lies in another stands in brackets.
func readPut(p *parser, s Step) Statement {
	p.targetFollows = true
	v := p.expression()
	p.targetFollows = false
	if t := p.peek(); t.Is("into") {
		p.fail(t, "write: put V in E", "`in` is missing before %s", t)
	}
	p.want("in")
	return &Put{s, v, p.element()}
}

// readFill refuses what `put` was called before, and says how it is written now.
func readFill(p *parser, s Step) Statement {
	from := p.tokens[p.at-1]
	field := p.at
	p.element()
	to := p.at
	p.want("with")
	value := p.at
	p.expression()
	p.failAt(from.Pos, from.Length, fmt.Sprintf("write: put %s in %s", p.between(value, p.at), p.between(field, to)),
		"what a field holds is replaced by `put V in E`")
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

func (s *Put) parts() []Node   { return []Node{s.Value, s.Element} }
func (s *Press) parts() []Node { return nil }

func (s *Type) parts() []Node {
	if s.Into == nil {
		return []Node{s.Value}
	}
	return []Node{s.Value, s.Into}
}

func (s *Put) words() string {
	value := s.Value.words()
	inner := false // an `in` of its own
	Inspect(s.Value, func(n Node) bool {
		e, ok := n.(*Element)
		inner = inner || ok && e.In != nil
		return true
	})
	if inner {
		value = "(" + value + ")"
	}
	return "put " + value + " in " + s.Element.words()
}

func (s *Type) words() string {
	if s.Into == nil {
		return "type " + s.Value.words()
	}
	return "type " + s.Value.words() + " into " + s.Into.words()
}

func (s *Press) words() string { return "press " + s.Key }

func (s *Put) content(j judged) bool  { return j.steady }
func (s *Type) content(j judged) bool { return j.steady }

func (s *Press) needs() []string {
	if a := Keys[s.Key].Ability; a != "" {
		return []string{a}
	}
	return nil
}

// run puts the mark behind what the field holds, takes that away, and enters the text.
func (s *Put) run(r *runner) *stop {
	v, stopped := r.valueWhenSettled(s, s.Value)
	if stopped != nil {
		return stopped
	}
	if stopped := r.focus(s, s.Element); stopped != nil {
		return stopped
	}
	saw, stopped := r.judge(s, s.Element.Text+" to hold what is typed", func(t *screen.Tree) sight {
		return r.readable(s.Element, t)
	})
	if stopped != nil {
		return stopped
	}
	away := "\uE010" + strings.Repeat("\uE003", len([]rune(saw.nodes[0].Value)))
	if err := r.device.Keys(r.ctx, away); err != nil {
		return r.trouble(s, err)
	}
	return r.act(s, device.EnterText(r.ctx, r.device, v.String()))
}

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
