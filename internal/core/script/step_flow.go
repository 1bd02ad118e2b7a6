package script

import (
	"fmt"

	"yamato/internal/core/script/token"
)

// The steps that name values and that hold other steps.
type (
	// Let names a value.
	Let struct {
		Step
		Name  string
		Value Value
	}
	// Times carries its body out so many times.
	Times struct {
		Step
		Count int
		Body  *Block
	}
)

// repeat is the one step that begins with no word.
var repeat = form{usage: "N times … end"}

func init() {
	add(form{word: "let", usage: "let x = V", read: readLet})
	repeat.read = readTimes
}

func readLet(p *parser, s Step) Statement {
	t := p.next()
	if t.Kind != token.Word && t.Kind != token.Variable {
		p.fail(t, "let total = number in #total", "the variable's name is missing before %s", t)
	}
	was := p.attempted[t.Text]
	p.attempted[t.Text] = true
	if eq := p.next(); !eq.IsSign("=") {
		p.fail(eq, "let "+t.Text+" = number in #total", "`=` is missing before %s", eq)
	}
	l := &Let{s, t.Text, p.expression()}
	p.attempted[t.Text] = was // it could be read
	return l
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

func (s *Let) parts() []Node   { return []Node{s.Value} }
func (s *Times) parts() []Node { return []Node{s.Body} }

func (s *Let) words() string   { return "let " + s.Name + " = " + s.Value.words() }
func (s *Times) words() string { return fmt.Sprintf("%d times", s.Count) }

func (s *Let) names() string  { return s.Name }
func (s *Times) body() *Block { return s.Body }

func (s *Let) run(r *runner) *stop {
	v, stopped := r.valueWhenSettled(s, s.Value)
	if stopped == nil {
		r.values[s.Name] = v
	}
	return stopped
}

func (s *Times) run(r *runner) *stop {
	for range s.Count {
		if stopped := r.block(s.Body); stopped != nil {
			return stopped
		}
	}
	return nil
}
