package script

import (
	"cmp"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/script/token"
)

// The steps that change what a device is made to feel: one for each form of the table in core/feel. What
// they change is undone after the case.
type (
	// Feel makes the device feel a level of a surrounding.
	Feel struct {
		Step
		Of    *feel.Surrounding
		form  feel.Form
		reads []worded // what the pieces of the form say: a constant, a *Template, or a Value
	}
	// GiveFile has a file chosen where the app asks for one next.
	GiveFile struct {
		Step
		File string
	}
)

// worded is a node that is written in words.
type worded interface {
	Node
	words() string
}

// constant is a piece of a form that says itself.
type constant string

func (c constant) words() string { return string(c) }
func (c constant) parts() []Node { return nil }

func init() {
	_, usages := feel.Usages()
	for _, g := range feel.Grouped() {
		add(form{word: g.Word, usage: usages[g.Word], read: func(p *parser, s Step) Statement {
			return p.feel(s, g, usages[g.Word])
		}})
	}
	add(form{word: "give", usage: `give file "…" · give back V`, read: readGive})
}

// feel reads a step by the forms that begin with its word: what they say in other words decides which it is.
func (p *parser) feel(s Step, g feel.Group, usage string) Statement {
	live := g.Forms
	out := &Feel{Step: s}
	for at := 0; ; at++ {
		var words []string
		which := map[string][]feel.Meaning{}
		var other []feel.Meaning
		for _, m := range live {
			if at < len(m.Pieces) && m.Pieces[at].Word != "" {
				w := m.Pieces[at].Word
				if which[w] == nil {
					words = append(words, w)
				}
				which[w] = append(which[w], m)
			} else {
				other = append(other, m)
			}
		}
		switch {
		case len(words) == 1 && len(other) == 0:
			p.want(words[0])
			continue
		case len(words) > 0:
			what := cmp.Or(which[words[0]][0].Pieces[at].What, "what it is to feel")
			live = which[p.oneOf(what, words...)]
			continue
		}
		if len(other) > 1 { // a word, or a text
			i := slices.IndexFunc(other, func(m feel.Meaning) bool { return m.Pieces[at].Text == (p.peek().Kind == token.String) })
			other = other[max(i, 0) : max(i, 0)+1]
		}
		if live = other; at == len(live[0].Pieces) {
			break
		}
		out.reads = append(out.reads, p.piece(live[0].Pieces[at], at > 0 && live[0].Pieces[at-1].Number, usage))
	}
	out.Of, out.form = live[0].Of, live[0].Form
	if level, ok := out.said(); ok {
		if why := out.Of.Check(level); why != "" {
			p.fail(p.tokens[p.at-1], usage, "%s", why)
		}
	}
	return out
}

// piece reads what a form leaves open.
func (p *parser) piece(piece feel.Piece, comma bool, usage string) worded {
	switch {
	case piece.Maybe != "":
		if p.accept(piece.Maybe) {
			return constant(piece.Maybe)
		}
		return constant("")
	case len(piece.OneOf) > 0:
		return constant(p.oneOf(piece.What, piece.OneOf...))
	case piece.Percent:
		t := p.next()
		n, whole := token.Whole(t.Number)
		if t.Kind != token.Percent || !whole {
			p.fail(t, usage, "%s is missing before %s", piece.What, t)
		}
		return constant(fmt.Sprintf("%d%%", n))
	case piece.Number:
		if comma {
			p.wantComma(usage)
		}
		return p.expression()
	case piece.Rest:
		if !p.peek().IsSign(",") {
			return constant("")
		}
		p.next()
	}
	return p.template(p.wantString(piece.What))
}

// said gives the level of a step that says it itself, without values that are known only when it runs.
func (s *Feel) said() (string, bool) {
	var read []string
	for _, n := range s.reads {
		switch n := n.(type) {
		case constant:
			read = append(read, string(n))
		case *Template:
			var text strings.Builder
			for _, part := range n.Parts {
				if part.Variable != "" {
					return "", false
				}
				text.WriteString(part.Text)
			}
			read = append(read, text.String())
		default:
			return "", false
		}
	}
	return s.form.Level(read), true
}

// oneOf takes one of a few words.
func (p *parser) oneOf(what string, words ...string) string {
	t := p.next()
	if t.Kind != token.Word || !slices.Contains(words, t.Text) {
		hint := token.Meant(t.Raw, words)
		if hint == "" {
			hint = "it is one of " + strings.Join(words, ", ")
		}
		p.fail(t, hint, "%s is missing before %s", what, t)
	}
	return t.Text
}

func (p *parser) wantComma(usage string) {
	if t := p.next(); !t.IsSign(",") {
		p.fail(t, "write: "+usage, "a comma is missing before %s", t)
	}
}

func readGive(p *parser, s Step) Statement {
	if t := p.peek(); t.Is("back") {
		p.next()
		if p.inAction == nil {
			p.fault(t, "name it instead: let x = …", "only an action gives a value back")
		}
		return &GiveBack{Step: s, Value: p.expression()}
	}
	p.want("file")
	t := p.wantString("the file's path")
	file, why := Beside(p.name, t.Plain())
	if why == "" && strings.HasPrefix(file, "..") {
		why = "a file that is given lies in the suite's folder"
	}
	if why != "" {
		p.fail(t, `give file "files/photo.png"`, "%s", why)
	}
	return &GiveFile{s, file}
}

func values(list ...Value) []Node {
	var out []Node
	for _, v := range list {
		if v != nil {
			out = append(out, v)
		}
	}
	return out
}

func (s *Feel) parts() (out []Node) {
	for _, n := range s.reads {
		if _, said := n.(constant); !said {
			out = append(out, n)
		}
	}
	return out
}

func (s *Feel) words() string {
	text, n := s.form.Word, 0
	for _, piece := range s.form.Pieces {
		say := piece.Word
		if say == "" {
			if say = s.reads[n].words(); say != "" && n > 0 && (piece.Number || piece.Rest) {
				text += ","
			}
			n++
		}
		if say != "" {
			text += " " + say
		}
	}
	return text
}

func (s *Feel) needs() []string { return []string{s.Of.Ability} }

func (s *GiveFile) parts() []Node   { return nil }
func (s *GiveFile) words() string   { return "give file " + quote(s.File) }
func (s *GiveFile) needs() []string { return []string{feel.Named(feel.Files).Ability} }

// feelings are what a device was made to feel, of each kind of thing: how that is done again, and
// how it is undone, in the order in which it was first done.
type feelings struct {
	kinds    []string
	do, undo map[string]func() error
}

func (f *feelings) note(kind string, do, undo func() error) {
	if f.do == nil {
		f.do, f.undo = map[string]func() error{}, map[string]func() error{}
	}
	if f.do[kind] == nil {
		f.kinds, f.undo[kind] = append(f.kinds, kind), undo
	}
	f.do[kind] = do
}

// feel has the device feel a level, and notes how that is undone after the case, once for each
// surrounding: by what came before all, where that has made it feel so.
func (r *runner) feel(st Statement, of *feel.Surrounding, level string) *stop {
	if why := of.Check(level); why != "" {
		return r.stop(st, NoValue, of.About, why)
	}
	do := func() error { return of.Do(r.ctx, r.device, r.o.App, level) }
	if !of.Passing {
		back := r.usual.do[of.Name]
		if back == nil && r.felt.do[of.Name] == nil {
			rest, ok := of.Rest(r.ctx, r.device, r.o.App)
			if !ok {
				return r.trouble(st, fmt.Errorf("it does not tell what it feels of %s, so that could not be undone",
					of.Name))
			}
			back = func() error { return of.Do(r.ctx, r.device, r.o.App, rest) }
		}
		r.felt.note(of.Name, do, back)
	}
	err := do()
	if err == nil && !of.Passing {
		r.levels = append(r.levels, Level{of, level})
	}
	return r.act(st, err)
}

func (s *Feel) run(r *runner) *stop {
	var read []string
	for _, n := range s.reads {
		switch n := n.(type) {
		case constant:
			read = append(read, string(n))
		case *Template:
			text, stopped := r.textOf(s, n)
			if stopped != nil {
				return stopped
			}
			read = append(read, text)
		case Value:
			number, stopped := r.number(s, n)
			if stopped != nil {
				return stopped
			}
			read = append(read, strconv.FormatFloat(number, 'f', -1, 64))
		}
	}
	return r.feel(s, s.Of, s.form.Level(read))
}

func (s *GiveFile) run(r *runner) *stop {
	if r.o.File == nil {
		return r.stop(s, NoValue, "a file to give", "no files are at hand here")
	}
	path, err := r.o.File(s.File)
	if err != nil {
		return r.stop(s, NoValue, "a file to give", err.Error())
	}
	return r.feel(s, feel.Named(feel.Files), feel.Paths(path))
}

// number computes a value that has to be a number.
func (r *runner) number(st Statement, v Value) (float64, *stop) {
	value, stopped := r.valueWhenSettled(st, v)
	if stopped != nil {
		return 0, stopped
	}
	if !value.IsNumber() {
		return 0, r.stop(st, NotANumber, v.told()+" to be a number", r.quoted(value)+" is a text")
	}
	f, _ := value.Number.Float64()
	return f, nil
}

// restore undoes what the device was made to feel. It tells what could not be.
func (r *runner) restore(f *feelings) (troubles []string) {
	for _, kind := range slices.Backward(f.kinds) {
		undo := f.undo[kind]
		err := undo()
		// that the app has died is known, and in the way of nothing
		if crash := (*device.Crash)(nil); errors.As(err, &crash) {
			_ = r.device.Stop(r.ctx, r.o.App)
			err = undo()
		}
		if err != nil {
			troubles = append(troubles, kind+": "+err.Error())
		}
	}
	*f = feelings{}
	return troubles
}

func newRat() *big.Rat { return new(big.Rat) }
