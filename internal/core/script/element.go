package script

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// Element is a locator as written, before variables have values.
type Element struct {
	Pos      Pos
	Length   int
	Text     string // canonical, with variables unresolved: what the locator is known by
	Label    *Wanted
	ID       string
	Role     string
	Called   *Wanted
	XPath    *screen.XPath
	Ordinal  int
	Relation screen.Relation // to Of; "" where there is none
	Of       *Element
}

// Wanted is a text to match: a template, a pattern, or a text of the app's own.
type Wanted struct {
	Text    *Template
	Pattern *regexp.Regexp
	Word    *Word
}

// Template is a text with {names} of variables in it.
type Template struct {
	Pos   Pos
	Parts []Part
}

// Part is a piece of plain text, or the name of a variable with its place.
type Part struct {
	Text     string
	Variable string
	Pos      Pos
}

// NoOrdinal is the Ordinal of an element that names none.
const NoOrdinal = screen.NoOrdinal

func (e *Element) parts() []Node {
	var out []Node
	for _, w := range []*Wanted{e.Label, e.Called} {
		out = append(out, w.parts()...)
	}
	if e.Of != nil {
		out = append(out, e.Of)
	}
	return out
}

func (t *Template) parts() []Node { return nil }

// parts is what is read in a text to match, which may be nil.
func (w *Wanted) parts() []Node {
	switch {
	case w == nil:
		return nil
	case w.Text != nil:
		return []Node{w.Text}
	case w.Word != nil:
		return []Node{w.Word}
	}
	return nil
}

// Roles are the roles that a locator may name: those of WAI-ARIA 1.2 (5.4) that something on a screen
// can have, the ones of what is only read among them, and `text`, which is what has none.
var Roles = map[string]bool{}

func init() {
	for _, r := range strings.Fields(`alert alertdialog application article banner blockquote button caption cell checkbox code columnheader combobox
		complementary contentinfo definition deletion dialog directory document emphasis feed figure form grid gridcell group
		heading img insertion link list listbox listitem log main marquee math menu menubar menuitem menuitemcheckbox
		menuitemradio meter navigation note option paragraph progressbar radio radiogroup region row rowgroup rowheader scrollbar
		search searchbox separator slider spinbutton status strong subscript superscript switch tab table tablist tabpanel term
		text textbox time timer toolbar tooltip tree treegrid treeitem`) {
		Roles[r] = true
	}
}

// element reads a locator.
func (p *parser) element() *Element {
	first := p.peek()
	e := &Element{Pos: first.Pos}
	if t := p.peek(); t.Kind == token.Ordinal {
		e.Ordinal, _ = token.Whole(p.next().Number)
	} else if t.Is("last") {
		p.next()
		e.Ordinal = screen.Last
	}
	switch t := p.next(); {
	case t.Kind == token.String, t.Kind == token.Pattern:
		e.Label = p.wanted(t)
	case t.Kind == token.ID:
		e.ID = t.Text
	case t.Is("word") && p.peek().IsSign("("):
		e.Label = &Wanted{Word: p.word(t)}
	case t.Is("xpath"):
		e.XPath = p.xpath()
	case t.Kind == token.Word && Roles[t.Text]:
		e.Role = t.Text
		if p.accept("called") {
			e.Called = p.wanted(p.next())
		}
	case t.Kind == token.Word:
		p.unknownRole(t)
	case t.IsSign("="):
		p.fail(t, "a value is expected so: expect number in #total = 5, or expect #total shows \"5\"",
			"an element is missing before %s", t)
	default:
		p.fail(t, `name it by its text "…", its #id, or its role`, "an element is missing before %s", t)
	}
	if relation := p.relation(); relation != "" {
		e.Relation = relation
		p.deeper(func() { e.Of = p.element() })
	}
	last := p.tokens[p.at-1]
	e.Length = last.Pos.Column + last.Length - first.Pos.Column
	e.Text = e.canonical()
	return e
}

// relation takes the words of a relation, "" where there are none.
func (p *parser) relation() screen.Relation {
	switch {
	case !p.targetFollows && p.accept("in"):
		return screen.In
	case p.accept("near"):
		return screen.Near
	case p.accept("above"):
		return screen.Above
	case p.accept("below"):
		return screen.Below
	case p.accept("left", "of"):
		return screen.LeftOf
	case p.accept("right", "of"):
		return screen.RightOf
	}
	return ""
}

func (p *parser) xpath() *screen.XPath {
	t := p.wantString("the XPath expression")
	x, err := screen.NewXPath(t.Plain())
	if err != nil {
		p.fail(t, `XPath 1.0 over the screen tree: xpath "//list[@id='rows']/listitem[2]"`,
			"this XPath cannot be used: %s", err)
	}
	return x
}

func (p *parser) unknownRole(t token.Token) {
	roles := []string{}
	for r := range Roles {
		roles = append(roles, r)
	}
	slices.Sort(roles)
	hint := token.Meant(t.Raw, roles)
	if hint == "" {
		hint = fmt.Sprintf(`a text stands in quotes: "%s"; an id after a #: #%s`, t.Raw, t.Raw)
	}
	p.fail(t, hint, "%s is no role that an element can have", t)
}

func (p *parser) wanted(t token.Token) *Wanted {
	switch t.Kind {
	case token.String:
		tpl := p.template(t)
		if strings.TrimSpace(t.Text) == "" {
			p.fail(t, "", "an empty text finds nothing")
		}
		return &Wanted{Text: tpl}
	case token.Pattern:
		return &Wanted{Pattern: p.pattern(t)}
	}
	if t.Is("word") && p.peek().IsSign("(") {
		return &Wanted{Word: p.word(t)}
	}
	p.fail(t, `write "…" or /…/`, "a text or a pattern is missing before %s", t)
	return nil
}

func (p *parser) pattern(t token.Token) *regexp.Regexp {
	size, err := patternSize(t.Text)
	if p.patterns += size; err == nil && (size > maxPattern || p.patterns > maxPatterns) {
		p.fail(t, "make it shorter, or repeat less",
			"this pattern, or all patterns of this file together, are too large")
	}
	re, err := regexp.Compile(t.Text)
	if err != nil {
		p.fail(t, "patterns are RE2", "this pattern cannot be read: %s", strings.TrimPrefix(err.Error(),
			"error parsing regexp: "))
	}
	return re
}

// template cuts a text at its {names}. A brace after a backslash is a brace.
func (p *parser) template(t token.Token) *Template {
	tpl := &Template{Pos: t.Pos}
	text := []rune(t.Text)
	at := func(i int) Pos {
		return Pos{File: t.Pos.File, Line: t.Pos.Line, Column: t.Pos.Column + 1 + i}
	}
	var plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			tpl.Parts = append(tpl.Parts, Part{Text: token.Unescape(plain.String())})
			plain.Reset()
		}
	}
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text):
			plain.WriteString(string(text[i : i+2]))
			i++
		case text[i] == '{':
			end := slices.Index(text[i:], '}')
			if end < 0 || end == 1 {
				p.failAt(at(i), 1, `for a plain brace write \{`, "{ opens the name of a value, as in {island}")
			}
			name := string(text[i+1 : i+end])
			p.valueName(name, at(i), end+1)
			if i > 0 && text[i-1] == '$' {
				p.advise(at(i-1), end+2, "in a text {"+name+"} stands for the value; the $ before it is kept as a sign")
			}
			flush()
			tpl.Parts = append(tpl.Parts, Part{Variable: strings.ToLower(name), Pos: at(i)})
			i += end
		default:
			plain.WriteRune(text[i])
		}
	}
	flush()
	return tpl
}

// valueName refuses what stands in braces and is not a name.
func (p *parser) valueName(name string, at Pos, length int) {
	switch {
	case strings.HasPrefix(name, "$"):
		p.failAt(at, length, "write {"+name[1:]+"}", "a name in braces has no $ before it")
	case strings.ContainsAny(name, "+*/()=") || strings.ContainsAny(name[:1], "0123456789-"):
		p.failAt(at, length, "compute it on a line before: let sum = …, then {sum}",
			"braces hold the name of a value, and nothing that is computed")
	case strings.ContainsAny(name, " {\"") || !token.IsName(name):
		p.failAt(at, length, `for a plain brace write \{`, "{ opens the name of a value, as in {island}")
	}
}

func (e *Element) canonical() string {
	var text string
	if e.Label != nil && e.Label.Word != nil || e.Called != nil && e.Called.Word != nil {
		text = e.ownWords()
	} else {
		l := screen.Locator{ID: e.ID, Role: e.Role, XPath: e.XPath, Ordinal: e.Ordinal, Label: e.Label.source(),
			Called: e.Called.source()}
		text = l.String()
	}
	if e.Of != nil {
		text += " " + string(e.Relation) + " " + e.Of.Text // made already, from the tail on
	}
	return text
}

func (w *Wanted) source() screen.Match {
	switch {
	case w == nil:
		return screen.Match{}
	case w.Pattern != nil:
		return screen.Match{Pattern: w.Pattern}
	}
	return screen.Match{Text: w.Text.source()}
}

// source is the text with its variables by name.
func (t *Template) source() string {
	var b strings.Builder
	for _, p := range t.Parts {
		if p.Variable != "" {
			b.WriteString("{" + p.Variable + "}")
		} else {
			b.WriteString(p.Text)
		}
	}
	return b.String()
}

// words is the element as scripts write it.
func (e *Element) words() string {
	if e.Of != nil {
		return e.ownWords() + " " + string(e.Relation) + " " + e.Of.words()
	}
	return e.ownWords()
}

// ownWords is the element without what it is related to.
func (e *Element) ownWords() string {
	var b strings.Builder
	switch {
	case e.Ordinal == screen.Last:
		b.WriteString("last ")
	case e.Ordinal != NoOrdinal:
		b.WriteString(token.OrdinalOf(e.Ordinal) + " ")
	}
	switch {
	case e.XPath != nil:
		b.WriteString("xpath " + quote(e.XPath.Source()))
	case e.ID != "":
		b.WriteString("#" + e.ID)
	case e.Role != "":
		b.WriteString(e.Role)
		if e.Called != nil {
			b.WriteString(" called " + e.Called.words())
		}
	default:
		b.WriteString(e.Label.words())
	}
	return b.String()
}

func (w *Wanted) words() string {
	switch {
	case w.Word != nil:
		return w.Word.words()
	case w.Pattern != nil:
		return patternWords(w.Pattern)
	}
	return w.Text.words()
}

func patternWords(re *regexp.Regexp) string {
	return "/" + slashes.Replace(re.String()) + "/"
}

// slashes writes the slashes of a pattern so that none ends it; those that have a backslash
// already keep it.
var slashes = strings.NewReplacer(`\\`, `\\`, `\/`, `\/`, "/", `\/`)

// words is the text in quotes, as scripts write it.
func (t *Template) words() string {
	var b strings.Builder
	b.WriteByte('"')
	for _, p := range t.Parts {
		if p.Variable != "" {
			b.WriteString("{" + p.Variable + "}")
		} else {
			b.WriteString(escape.Replace(p.Text))
		}
	}
	b.WriteByte('"')
	return b.String()
}

var escape = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "{", `\{`, "}", `\}`, "\n", `\n`)

// quote writes a plain text as scripts do.
func quote(s string) string { return `"` + escape.Replace(s) + `"` }

// with is the text with the values of names put in.
func (t *Template) with(values map[string]amount.Value) string {
	var b strings.Builder
	for _, p := range t.Parts {
		if p.Variable != "" {
			b.WriteString(values[p.Variable].String())
		} else {
			b.WriteString(p.Text)
		}
	}
	return b.String()
}
