package script

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// The steps that name values, and that hold or call other steps.
type (
	// Let names a value, or what an action gives back.
	Let struct {
		Step
		At    Pos // of the name
		Name  string
		Value Value
		Call  *Call
	}
	// TakeAccount names what a test account holds: $who.user, $who.password …
	TakeAccount struct {
		Step
		At      Pos
		Account string
		Name    string
	}
	// Call carries an action out.
	Call struct {
		Step
		Words     []string // "" where a value stands
		Spots     []Pos    // of the words and values
		Lengths   []int    // of them, as written
		Arguments []Value

		action *Action
	}
	// GiveBack ends an action with a value.
	GiveBack struct {
		Step
		Value Value
	}
	// If carries one block out where a condition holds, and the other where it does not.
	If struct {
		Step
		Condition Condition
		Then      *Block
		Else      *Block // nil where there is none
	}
	// Times carries its body out so many times.
	Times struct {
		Step
		Count int
		Body  *Block
	}
	// Note leaves words in the report.
	Note struct {
		Step
		Words *Template
	}
	// Ask has a person do something, who says so.
	Ask struct {
		Step
		Words *Template
	}
	// Pause lets time go by, whatever the screen does.
	Pause struct {
		Step
		Long time.Duration
	}
)

// repeat is the one step that begins with no word.
var repeat = form{usage: "N times … end"}

func init() {
	add(
		form{word: "let", usage: "let x = V · let x = do <action>", read: readLet},
		form{word: "account", usage: `account "…" as $who`, read: readAccount},
		form{word: "do", usage: "do <action>", read: func(p *parser, s Step) Statement { return p.call(s) }},
		form{word: "if", usage: "if C … [else …] end", read: readIf},
		form{word: "note", usage: `note "…"`, read: func(p *parser, s Step) Statement {
			return &Note{s, p.template(p.wantString("what to note"))}
		}},
		form{word: "ask", usage: `ask "…" within 2m`, read: func(p *parser, s Step) Statement {
			return &Ask{s, p.template(p.wantString("what a person is asked to do"))}
		}},
		form{word: "pause", usage: "pause 2s", read: func(p *parser, s Step) Statement {
			return &Pause{s, p.duration("how long to pause, which is a duration,")}
		}},
	)
	repeat.read = readTimes
}

func readLet(p *parser, s Step) Statement {
	t := p.next()
	if t.Kind != token.Word && t.Kind != token.Variable {
		p.fail(t, "let total = number in #total", "the variable's name is missing before %s", t)
	}
	if !token.IsName(t.Text) || strings.Contains(t.Text, ".") {
		p.fail(t, "letters, digits and _; a hyphen before a letter", "no value can be called %s", t)
	}
	was := p.attempted[t.Text]
	p.attempted[t.Text] = true
	if eq := p.next(); !eq.IsSign("=") {
		p.fail(eq, "let "+t.Text+" = number in #total", "`=` is missing before %s", eq)
	}
	l := &Let{Step: s, At: t.Pos, Name: t.Text}
	if from := p.peek(); from.Is("do") {
		p.next()
		l.Call = p.call(Step{Pos: from.Pos, Text: p.source(from)})
	} else {
		l.Value = p.expression()
	}
	p.attempted[t.Text] = was // it could be read
	return l
}

func readAccount(p *parser, s Step) Statement {
	name := p.wantString("the account's name")
	if strings.TrimSpace(name.Plain()) == "" {
		p.fail(name, `account "payer" as $who`, "an account has a name")
	}
	p.want("as")
	t := p.next()
	if t.Kind != token.Variable && t.Kind != token.Word || !token.IsName(t.Text) || strings.Contains(t.Text, ".") {
		p.fail(t, `account "payer" as $who`, "a name for what it holds is missing before %s", t)
	}
	return &TakeAccount{s, t.Pos, name.Plain(), t.Text}
}

// call reads the name of an action with values in it.
func (p *parser) call(s Step) *Call {
	c := &Call{Step: s}
	for !p.peek().EndsLine() && !p.peek().Is("within") {
		t := p.peek()
		if len(c.Words) == maxWords {
			p.fail(t, "", "an action's name has at most %d words", maxWords)
		}
		c.Spots = append(c.Spots, t.Pos)
		if t.Kind == token.Word && !(t.Is("secret") && p.tokens[p.at+1].Kind == token.String) &&
			!(t.Is("word") && p.tokens[p.at+1].IsSign("(")) {
			p.next()
			c.Words, c.Lengths = append(c.Words, t.Text), append(c.Lengths, t.Length)
			continue
		}
		c.Words = append(c.Words, "")
		c.Arguments = append(c.Arguments, p.operand())
		last := p.tokens[p.at-1]
		c.Lengths = append(c.Lengths, last.Pos.Column+last.Length-t.Pos.Column)
	}
	if len(c.Words) == 0 {
		p.fail(p.peek(), "do choose the crossing \"Sora\" to \"Minami\"", "an action's name is missing before %s",
			p.peek())
	}
	p.calls = append(p.calls, c)
	return c
}

func readIf(p *parser, s Step) Statement {
	first := p.tokens[p.at-1]
	i := &If{Step: s}
	failed := p.failed
	p.attempt(func() { i.Condition = p.condition() })
	if p.failed > failed {
		p.skipLine() // its steps are read all the same
	}
	then, otherwise := p.blockTo(first, "if", "else")
	i.Then = then
	switch {
	case otherwise && p.peek().Is("if"):
		at := p.next()
		inner := Step{Pos: at.Pos, Text: p.source(at)}
		if p.blocks++; p.blocks > maxDepth {
			p.fault(at, "", "blocks are nested more than %d deep", maxDepth)
			p.giveUp()
			panic(bail{})
		}
		defer func() { p.blocks-- }()
		p.attempt(func() { i.Else = &Block{Steps: []Statement{readIf(p, inner)}} })
	case otherwise:
		i.Else = p.block(first, "else")
	}
	if i.Condition == nil {
		panic(bail{}) // what was wrong with it has been told
	}
	return i
}

func readTimes(p *parser, s Step) Statement {
	t := p.next()
	p.want("times")
	n, whole := token.Whole(t.Number)
	if !whole || n < 1 || n > maxTimes {
		p.fault(t, "", "a block is repeated 1 to %d times", maxTimes)
	}
	return &Times{Step: s, Count: n, Body: p.block(t, t.Raw+" times")}
}

func (s *Let) parts() []Node {
	if s.Call != nil {
		return []Node{s.Call}
	}
	return []Node{s.Value}
}

func (s *TakeAccount) parts() []Node { return nil }
func (s *Call) parts() []Node        { return values(s.Arguments...) }
func (s *GiveBack) parts() []Node    { return []Node{s.Value} }
func (s *Times) parts() []Node       { return []Node{s.Body} }
func (s *Note) parts() []Node        { return []Node{s.Words} }
func (s *Ask) parts() []Node         { return []Node{s.Words} }
func (s *Pause) parts() []Node       { return nil }

func (s *If) parts() []Node {
	out := []Node{s.Condition, s.Then}
	if s.Else != nil {
		out = append(out, s.Else)
	}
	return out
}

func (s *Let) words() string {
	if s.Call != nil {
		return "let " + s.Name + " = " + s.Call.words()
	}
	return "let " + s.Name + " = " + s.Value.words()
}

func (s *TakeAccount) words() string { return "account " + quote(s.Account) + " as $" + s.Name }
func (s *GiveBack) words() string    { return "give back " + s.Value.words() }
func (s *If) words() string          { return "if " + s.Condition.words() }
func (s *Times) words() string       { return fmt.Sprintf("%d times", s.Count) }
func (s *Note) words() string        { return "note " + s.Words.words() }
func (s *Ask) words() string         { return "ask " + s.Words.words() }
func (s *Pause) words() string       { return "pause " + durationWords(s.Long) }

func (s *Call) words() string {
	out, n := []string{"do"}, 0
	for _, w := range s.Words {
		if w == "" {
			w = argumentWords(s.Arguments[n])
			n++
		}
		out = append(out, w)
	}
	return strings.Join(out, " ")
}

// argumentWords writes a value so that it is one argument.
func argumentWords(v Value) string {
	switch v := v.(type) {
	case *Text, *Number, *Variable, *Secret, *Word:
		return v.words()
	case *Binary:
		if n, ok := v.Left.(*Number); ok && v.Sign == "-" && n.Value.Sign() == 0 {
			if _, plain := v.Right.(*Binary); !plain {
				return v.words()
			}
		}
	}
	return "(" + v.words() + ")"
}

// Does is the action that is called, nil where there is none of that name.
func (s *Call) Does() *Action { return s.action }

func (s *Let) names() []string         { return []string{s.Name} }
func (s *TakeAccount) names() []string { return []string{s.Name} }

func (s *Times) bodies() []*Block { return []*Block{s.Body} }

func (s *If) bodies() []*Block {
	if s.Else == nil {
		return []*Block{s.Then}
	}
	return []*Block{s.Then, s.Else}
}

func (s *Pause) advice() (message, hint string) {
	return "a fixed pause is too long on one device and too short on another",
		"steps wait by themselves, up to their patience; for longer: expect E within 15s"
}

func (s *Let) run(r *runner) *stop {
	if s.Call != nil {
		v, stopped := r.call(s, s.Call)
		switch {
		case stopped != nil:
			return stopped
		case v == nil:
			return r.stop(s, NoValue, "the action to give a value back", "it ended without `give back`")
		}
		r.values[s.Name] = *v
		return nil
	}
	v, stopped := r.valueWhenSettled(s, s.Value)
	if stopped == nil {
		r.values[s.Name] = v
	}
	return stopped
}

func (s *TakeAccount) run(r *runner) *stop {
	account, ok := r.o.Accounts[s.Account]
	if !ok {
		return r.stop(s, NoValue, "an account", fmt.Sprintf("the project has no account %q; `yamato account add` gives it one", s.Account))
	}
	r.values[s.Name] = amount.Value{Text: account["user"]}
	for field, value := range account {
		r.values[s.Name+"."+strings.ToLower(field)] = amount.Value{Text: value}
	}
	return nil
}

// run carries the action out; what it gives back nobody wants.
func (s *Call) run(r *runner) *stop {
	_, stopped := r.call(s, s)
	return stopped
}

// call carries an action out, in which its own values have names and no others.
func (r *runner) call(st Statement, c *Call) (*amount.Value, *stop) {
	if len(r.way) >= maxCalls {
		return nil, r.stop(st, OutOfTime, "actions to end", fmt.Sprintf("actions call each other more than %d deep",
			maxCalls))
	}
	inside := map[string]amount.Value{}
	for i, a := range c.Arguments {
		v, stopped := r.valueWhenSettled(st, a)
		if stopped != nil {
			return nil, stopped
		}
		inside[c.action.Params[i].Name] = v
	}
	outside, patience, gave := r.values, r.o.Patience, r.gave
	b := st.base()
	r.values, r.gave = inside, nil
	r.way = append(r.way, Place{File: b.Pos.File, Line: b.Pos.Line, Text: r.mask(b.Text)})
	if b.Within > 0 {
		r.o.Patience = b.Within
	}
	stopped := r.block(c.action.Body)
	back := r.gave
	r.values, r.o.Patience, r.gave = outside, patience, gave
	r.way = r.way[:len(r.way)-1]
	return back, stopped
}

// run ends the action: what follows in it is left out.
func (s *GiveBack) run(r *runner) *stop {
	v, stopped := r.valueWhenSettled(s, s.Value)
	if stopped != nil {
		return stopped
	}
	r.gave = &v
	return nil
}

// run looks whether the condition holds; the block that it chooses is carried out after.
func (s *If) run(r *runner) *stop {
	holds, stopped := r.holds(s, s.Condition)
	if r.branch = holds; stopped == nil {
		r.note = map[bool]string{true: "it is so", false: "it is not so"}[holds] + r.undecided
	}
	return stopped
}

// chosen is the block that follows, nil where there is none.
func (s *If) chosen(holds bool) *Block {
	if holds {
		return s.Then
	}
	return s.Else
}

// run does nothing: its body is carried out step by step.
func (s *Times) run(r *runner) *stop { return nil }

func (s *Note) run(r *runner) *stop {
	text, stopped := r.textOf(s, s.Words)
	r.note = text
	return stopped
}

// askTime is how long a person is waited for where a script does not say.
const askTime = 2 * time.Minute

func (s *Ask) run(r *runner) *stop {
	text, stopped := r.textOf(s, s.Words)
	if stopped != nil {
		return stopped
	}
	if r.o.Ask == nil {
		return r.stop(s, NoAbility, "a person at the device", "nobody is there to be asked")
	}
	limit := s.Within
	if limit == 0 {
		limit = askTime
	}
	said, err := r.o.Ask(r.ctx, r.mask(text), limit)
	switch {
	case err != nil:
		return r.trouble(s, err)
	case said != "":
		return r.stop(s, Contradicted, "a person to do it: "+r.mask(text), said)
	}
	return r.act(s, nil)
}

func (s *Pause) run(r *runner) *stop { return r.letPass(s, s.Long) }

// Named is a value with its name, as reports tell it.
type Named struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// maxNamed bounds the values that a failure tells.
const maxNamed = 40

// named are the values that names have where a case ended.
func (r *runner) named() []Named {
	var out []Named
	for _, name := range slices.Sorted(maps.Keys(r.values)) {
		if len(out) == maxNamed {
			break
		}
		out = append(out, Named{name, r.quoted(r.values[name])})
	}
	return out
}
