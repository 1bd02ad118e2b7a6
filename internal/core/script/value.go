package script

import (
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"

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
	Number struct {
		Value   *big.Rat
		Percent bool // it is written with a percent sign
	}
	// Variable is a named value.
	Variable struct {
		Pos  Pos
		Name string
	}
	// NumberIn is the number that an element shows, or that the part of its text shows which
	// Matching finds.
	NumberIn struct {
		Matching *regexp.Regexp
		Element  *Element
	}
	// TextIn is the text that an element shows, or the part of it that Matching finds: its first
	// group, where it has one.
	TextIn struct {
		Matching *regexp.Regexp
		Element  *Element
	}
	// CountOf is how many elements are shown.
	CountOf struct{ Element *Element }
	// Word is a text of the app's own, by its key, in the language of the device. Values go
	// where the text leaves room for some.
	Word struct {
		Pos    Pos
		Length int
		Key    string
		Values []Value
	}
	// Secret is a value of the project's that nothing shows.
	Secret struct {
		Pos    Pos
		Length int
		Name   string
	}
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
func (v *TextIn) parts() []Node   { return []Node{v.Element} }
func (v *CountOf) parts() []Node  { return []Node{v.Element} }
func (v *Secret) parts() []Node   { return nil }
func (v *Binary) parts() []Node   { return []Node{v.Left, v.Right} }

func (v *Word) parts() []Node {
	out := make([]Node, len(v.Values))
	for i, one := range v.Values {
		out[i] = one
	}
	return out
}

func (v *Text) words() string { return v.Template.words() }
func (v *Number) words() string {
	if v.Percent {
		return amount.Value{Number: v.Value}.String() + "%"
	}
	return amount.Value{Number: v.Value}.String()
}
func (v *Variable) words() string { return "$" + v.Name }
func (v *NumberIn) words() string {
	return "number " + matching(v.Matching) + "in " + v.Element.words()
}
func (v *TextIn) words() string  { return "text " + matching(v.Matching) + "in " + v.Element.words() }
func (v *CountOf) words() string { return "count of " + v.Element.words() }
func (v *Secret) words() string  { return "secret " + quote(v.Name) }

func (v *Word) words() string {
	out := []string{v.Key}
	for _, one := range v.Values {
		out = append(out, one.words())
	}
	return "word(" + strings.Join(out, ", ") + ")"
}

func matching(re *regexp.Regexp) string {
	if re == nil {
		return ""
	}
	return "matching " + patternWords(re) + " "
}

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
func (v *NumberIn) told() string { return "number " + matching(v.Matching) + "in " + v.Element.Text }
func (v *TextIn) told() string   { return "text " + matching(v.Matching) + "in " + v.Element.Text }
func (v *CountOf) told() string  { return "count of " + v.Element.Text }
func (v *Secret) told() string   { return v.words() }
func (v *Word) told() string     { return v.words() }
func (v *Binary) told() string   { return "what is computed" }

func (v *Text) compute(r *runner, _ *screen.Tree) sight {
	if name, ok := r.nameless(v.Template); !ok {
		return r.noValue(name)
	}
	return sight{ok: true, value: amount.Value{Text: r.text(v.Template)}}
}

func (v *Number) compute(*runner, *screen.Tree) sight {
	return sight{ok: true, value: amount.Value{Number: v.Value}}
}

func (v *Variable) compute(r *runner, _ *screen.Tree) sight {
	value, ok := r.values[v.Name]
	if !ok {
		return r.noValue(v.Name)
	}
	return sight{ok: true, value: value}
}

// noValue tells that a name has no value, as where only one branch of an `if` gives it one.
func (r *runner) noValue(name string) sight {
	hint := ""
	if account, _, dotted := strings.Cut(name, "."); dotted {
		var has []string
		for n := range r.values {
			if field, ok := strings.CutPrefix(n, account+"."); ok {
				has = append(has, field)
			}
		}
		if len(has) > 0 {
			slices.Sort(has)
			hint = "; the account holds " + strings.Join(has, ", ")
		}
	}
	return sight{cause: NoValue, final: true, actual: "$" + name + " has no value here" + hint}
}

func (v *NumberIn) compute(r *runner, t *screen.Tree) sight {
	saw, written := r.contentOf(v.Element, v.Matching, t)
	if !saw.ok {
		return saw
	}
	n, err := screen.Number(written, t.Language) // which kind of space stands in it may matter
	if err != nil {
		return sight{cause: NotANumber, nodes: saw.nodes,
			actual: fmt.Sprintf("%s shows %q, which is not one number: %s",
				v.Element.Text, r.clip(saw.value.Text), err)}
	}
	return sight{ok: true, nodes: saw.nodes, value: amount.Value{Number: n}}
}

func (v *TextIn) compute(r *runner, t *screen.Tree) sight {
	saw, _ := r.contentOf(v.Element, v.Matching, t)
	return saw
}

// contentOf gives what an element shows, or the part of it that a pattern finds; and the same as it
// is written, with its spaces as they are.
func (r *runner) contentOf(e *Element, part *regexp.Regexp, t *screen.Tree) (saw sight, written string) {
	saw = r.readable(e, t)
	if !saw.ok {
		return saw, ""
	}
	written = saw.nodes[0].Content()
	text := screen.Fold(written)
	if part != nil {
		found := part.FindStringSubmatch(written)
		if found == nil {
			found = part.FindStringSubmatch(text)
		}
		if found == nil {
			return sight{cause: Contradicted, nodes: saw.nodes,
				actual: fmt.Sprintf("%s shows %q, in which %s finds nothing", e.Text, r.clip(text),
					patternWords(part))}, ""
		}
		written = found[min(1, len(found)-1)]
		text = screen.Fold(written)
	}
	return sight{ok: true, nodes: saw.nodes, value: amount.Value{Text: text}, key: text}, written
}

func (v *CountOf) compute(r *runner, t *screen.Tree) sight {
	saw := r.find(v.Element, t)
	if saw.trouble != nil {
		return *saw.trouble
	}
	return sight{ok: true, nodes: saw.shown, value: amount.Value{Number: big.NewRat(int64(len(saw.shown)), 1)}}
}

func (v *Secret) compute(r *runner, _ *screen.Tree) sight {
	value, ok := r.o.Secrets[v.Name]
	if !ok {
		return sight{cause: NoValue, final: true, actual: fmt.Sprintf("the project has no secret %q; `yamato secret set` gives it one",
			v.Name)}
	}
	return sight{ok: true, value: amount.Value{Text: value}}
}

func (v *Word) compute(r *runner, t *screen.Tree) sight {
	text, why := r.word(v, t)
	if why != "" {
		return sight{cause: NoValue, final: true, actual: why}
	}
	if text.Pattern != nil {
		return sight{cause: NoValue, final: true, actual: fmt.Sprintf(
			"%s is %q, which leaves room for values: name them, as in word(%s, 3)", v.words(), text.Text, v.Key)}
	}
	return sight{ok: true, value: amount.Value{Text: text.Text}}
}

func (v *Binary) compute(r *runner, t *screen.Tree) sight {
	left, right := v.Left.compute(r, t), v.Right.compute(r, t)
	for _, side := range []sight{left, right} {
		if !side.ok {
			return side
		}
		if !side.value.IsNumber() {
			return sight{cause: NotANumber, actual: fmt.Sprintf("%s is no number", r.quoted(side.value))}
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
		return &Number{Value: t.Number}
	case t.Kind == token.String:
		return &Text{p.template(t)}
	case t.Kind == token.Variable:
		return &Variable{t.Pos, t.Text}
	case t.Kind == token.Percent:
		return &Number{Value: t.Number, Percent: true}
	case t.Is("number"), t.Is("text"):
		return p.readFrom(t)
	case t.Is("count") && p.peek().Is("of"):
		p.next()
		return &CountOf{p.element()}
	case t.Is("word") && p.peek().IsSign("("):
		return p.word(t)
	case t.Is("secret"):
		name := p.wantString("the secret's name")
		return &Secret{t.Pos, name.Pos.Column + name.Length - t.Pos.Column, name.Plain()}
	case t.IsSign("-"):
		return &Binary{"-", &Number{Value: new(big.Rat)}, p.operand()}
	case t.IsSign("("):
		target := p.targetFollows
		p.targetFollows = false
		v := p.expression()
		p.targetFollows = target
		if c := p.next(); !c.IsSign(")") {
			p.fail(c, "", "`)` is missing before %s", c)
		}
		return v
	case t.Kind == token.Word:
		p.fail(t, fmt.Sprintf(`a variable is written $%s, a text "%s"`, t.Raw, t.Raw), "%s is no value", t)
	case t.Kind == token.ID:
		p.fail(t, "what it shows is: number in "+t.Raw, "an element is no value")
	}
	p.fail(t, `a value is a number, a "text", a $variable, or number in an element`, "a value is missing before %s", t)
	return nil
}

// readFrom reads `number in E`, `text in E`, and what of it a pattern finds.
func (p *parser) readFrom(t token.Token) Value {
	var part *regexp.Regexp
	if p.accept("matching") {
		if m := p.next(); m.Kind == token.Pattern {
			part = p.pattern(m)
		} else {
			p.fail(m, `text matching /[A-Z]+-\d+/ in #ticket`, "a pattern is missing before %s", m)
		}
	}
	p.want("in")
	if t.Is("number") {
		return &NumberIn{part, p.element()}
	}
	return &TextIn{part, p.element()}
}

// word reads word(key) and word(key, V, …).
func (p *parser) word(t token.Token) *Word {
	p.next() // (
	w := &Word{Pos: t.Pos}
	key := p.next()
	if key.Kind != token.Word && key.Kind != token.String {
		p.fail(key, "word(buy_ticket)", "the key of a text is missing before %s", key)
	}
	w.Key = key.Plain()
	if key.Kind == token.Word {
		w.Key = key.Raw // keys are as the app has them
	}
	for p.peek().IsSign(",") {
		p.next()
		target := p.targetFollows
		p.targetFollows = false
		w.Values = append(w.Values, p.expression())
		p.targetFollows = target
		if len(w.Values) > maxWordValues {
			p.fail(key, "", "a text takes at most %d values", maxWordValues)
		}
	}
	if c := p.next(); !c.IsSign(")") {
		p.fail(c, "", "`)` is missing before %s", c)
	}
	last := p.tokens[p.at-1]
	w.Length = last.Pos.Column + last.Length - t.Pos.Column
	return w
}

// word gives a text of the app's in the language that the device is set to; one that leaves
// room for values is a pattern, unless it was given some. It tells why there is none.
func (r *runner) word(w *Word, t *screen.Tree) (m screen.Match, why string) {
	language := r.language
	if t != nil {
		language = t.Language
	}
	if r.o.Words == nil {
		return m, "this build has no texts of its own that could be read"
	}
	text, ok := r.o.Words(w.Key, language)
	if !ok {
		return m, fmt.Sprintf("this build has no text %s in %s", w.Key, language)
	}
	holes := placeholders.FindAllStringIndex(text, -1)
	if len(holes) == 0 {
		return screen.Match{Text: text}, ""
	}
	if len(w.Values) > 0 {
		if len(w.Values) != len(holes) {
			return m, fmt.Sprintf("the text %s leaves room for %d values, and is given %d: %q", w.Key, len(holes),
				len(w.Values), text)
		}
		return r.fill(w, text, t)
	}
	var b strings.Builder
	b.WriteString("^")
	at := 0
	for _, h := range holes {
		b.WriteString(regexp.QuoteMeta(text[at:h[0]]) + "(?s:.*)")
		at = h[1]
	}
	b.WriteString(regexp.QuoteMeta(text[at:]) + "$")
	re, err := regexp.Compile(b.String())
	if err != nil {
		return m, fmt.Sprintf("the text %s cannot be looked for: %q", w.Key, text)
	}
	return screen.Match{Text: text, Pattern: re}, ""
}

// placeholders are where texts leave room for values: %s, %1$d, %@ as Android and iOS write
// them, {0} and {name} as the web does.
var placeholders = regexp.MustCompile(`%(?:\d+\$)?[-+0 #,(]*\d*(?:\.\d+)?l{0,2}[sdif@u]|\{\{?[A-Za-z0-9_]+\}?\}`)

// fill puts values into a text, in the order that it asks for.
func (r *runner) fill(w *Word, text string, t *screen.Tree) (m screen.Match, why string) {
	values := make([]string, len(w.Values))
	for i, v := range w.Values {
		saw := v.compute(r, t)
		if !saw.ok {
			return m, saw.actual
		}
		values[i] = saw.value.String()
	}
	n := 0
	text = placeholders.ReplaceAllStringFunc(text, func(hole string) string {
		at := n
		if num := numbered.FindStringSubmatch(hole); num != nil {
			if i, err := strconv.Atoi(num[1] + num[2]); err == nil {
				at = i
				if num[1] != "" {
					at--
				}
			}
		}
		n++
		if at < 0 || at >= len(values) {
			return hole
		}
		return values[at]
	})
	return screen.Match{Text: strings.ReplaceAll(text, "%%", "%")}, ""
}

var numbered = regexp.MustCompile(`^%(\d+)\$|^\{\{?(\d+)\}`)
