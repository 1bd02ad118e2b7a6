package script

import (
	"fmt"
	"math/big"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// Value is what can be computed. The kinds stand below: how each is made up, computed
// and written.
type Value interface {
	Node
	// compute gives it by what is on a screen; t is nil where nothing is read from one.
	compute(r *runner, t *screen.Tree) sight
	// words is the one way to write it.
	words() string
	// told is how a report speaks of it.
	told() string
}

// The values.
type (
	// Text is a text.
	Text struct{ Template *Template }
	// Number is a plain number.
	Number struct{ Value *big.Rat }
	// Variable is a named value.
	Variable struct {
		Pos  Pos
		Name string
	}
	// NumberIn is the number that an element shows.
	NumberIn struct{ Element *Element }
	// Binary is + - * or / of two values.
	Binary struct {
		Sign        string
		Left, Right Value
	}
)

func (v *Text) parts() []Node     { return []Node{v.Template} }
func (v *Number) parts() []Node   { return nil }
func (v *Variable) parts() []Node { return nil }
func (v *NumberIn) parts() []Node { return []Node{v.Element} }
func (v *Binary) parts() []Node   { return []Node{v.Left, v.Right} }

func (v *Text) words() string     { return v.Template.words() }
func (v *Number) words() string   { return amount.Value{Number: v.Value}.String() }
func (v *Variable) words() string { return "$" + v.Name }
func (v *NumberIn) words() string { return "number in " + v.Element.words() }

func (v *Binary) words() string {
	left, right := v.Left.words(), v.Right.words()
	if b, ok := v.Left.(*Binary); ok && loose(b.Sign) && !loose(v.Sign) {
		left = "(" + left + ")"
	}
	if b, ok := v.Right.(*Binary); ok && (loose(b.Sign) || !loose(v.Sign)) {
		right = "(" + right + ")"
	}
	if n, ok := v.Left.(*Number); ok && v.Sign == "-" && n.Value.Sign() == 0 {
		return "-" + right
	}
	return left + " " + v.Sign + " " + right
}

func loose(sign string) bool { return sign == "+" || sign == "-" }

func (v *Text) told() string     { return fmt.Sprintf("%q", clipText(v.Template.source())) }
func (v *Number) told() string   { return v.words() }
func (v *Variable) told() string { return v.words() }
func (v *NumberIn) told() string { return "number in " + v.Element.Text }
func (v *Binary) told() string   { return "what is computed" }

func (v *Text) compute(r *runner, _ *screen.Tree) sight {
	return sight{ok: true, value: amount.Value{Text: r.text(v.Template)}}
}

func (v *Number) compute(*runner, *screen.Tree) sight {
	return sight{ok: true, value: amount.Value{Number: v.Value}}
}

func (v *Variable) compute(r *runner, _ *screen.Tree) sight {
	return sight{ok: true, value: r.values[v.Name]}
}

func (v *NumberIn) compute(r *runner, t *screen.Tree) sight {
	saw := r.readable(v.Element, t)
	if !saw.ok {
		return saw
	}
	content := saw.nodes[0].Content()
	n, err := screen.Number(content, t.Language)
	if err != nil {
		return sight{cause: NotANumber, nodes: saw.nodes,
			actual: fmt.Sprintf("%s shows %q, which is not one number: %s",
				v.Element.Text, clipText(content), err)}
	}
	return sight{ok: true, nodes: saw.nodes, value: amount.Value{Number: n}}
}

func (v *Binary) compute(r *runner, t *screen.Tree) sight {
	left, right := v.Left.compute(r, t), v.Right.compute(r, t)
	for _, side := range []sight{left, right} {
		if !side.ok {
			return side
		}
		if !side.value.IsNumber() {
			return sight{cause: NotANumber, actual: fmt.Sprintf("%s is no number", side.value.Quoted())}
		}
	}
	result, why := amount.Calculate(left.value.Number, v.Sign, right.value.Number)
	if why != "" {
		return sight{cause: NotANumber, actual: why}
	}
	return sight{ok: true, nodes: append(left.nodes, right.nodes...), value: amount.Value{Number: result}}
}

// expression reads sums of products.
func (p *parser) expression() Value {
	v := p.product()
	for n := 1; p.peek().IsSign("+") || p.peek().IsSign("-"); n++ {
		p.fewTerms(n)
		v = &Binary{p.next().Text, v, p.product()}
	}
	return v
}

func (p *parser) product() Value {
	v := p.operand()
	for n := 1; p.peek().IsSign("*") || p.peek().IsSign("/"); n++ {
		p.fewTerms(n)
		v = &Binary{p.next().Text, v, p.operand()}
	}
	return v
}

func (p *parser) operand() (v Value) {
	p.deeper(func() { v = p.term() })
	return v
}

func (p *parser) term() Value {
	t := p.next()
	switch {
	case t.Kind == token.Number:
		return &Number{t.Number}
	case t.Kind == token.String:
		return &Text{p.template(t)}
	case t.Kind == token.Variable:
		return &Variable{t.Pos, t.Text}
	case t.Is("number"):
		p.want("in")
		return &NumberIn{p.element()}
	case t.IsSign("-"):
		return &Binary{"-", &Number{new(big.Rat)}, p.operand()}
	case t.IsSign("("):
		target := p.targetFollows
		p.targetFollows = false
		v := p.expression()
		p.targetFollows = target
		if c := p.next(); !c.IsSign(")") {
			p.fail(c, "", "`)` is missing before %s", c)
		}
		return v
	case t.Is("text") && p.peek().Is("in"):
		p.notReady(t)
	case t.Kind == token.Word:
		p.fail(t, fmt.Sprintf(`a variable is written $%s, a text "%s"`, t.Raw, t.Raw), "%s is no value", t)
	case t.Kind == token.ID:
		p.fail(t, "what it shows is: number in "+t.Raw, "an element is no value")
	}
	p.fail(t, `a value is a number, a "text", a $variable, or number in an element`, "a value is missing before %s", t)
	return nil
}
