package script

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// Element is a locator as written, before variables have values.
type Element struct {
	Pos     Pos
	Length  int
	Text    string // canonical, with variables unresolved: what the locator is known by
	Label   *Wanted
	ID      string
	Role    string
	Called  *Wanted
	Ordinal int
	In      *Element
}

// Wanted is a text to match: a template, or a pattern.
type Wanted struct {
	Text    *Template
	Pattern *regexp.Regexp
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
		if w != nil && w.Text != nil {
			out = append(out, w.Text)
		}
	}
	if e.In != nil {
		out = append(out, e.In)
	}
	return out
}

func (t *Template) parts() []Node { return nil }

// Roles are the WAI-ARIA 1.2 roles that a locator may name.
var Roles = map[string]bool{}

func init() {
	for _, r := range []string{
		"alert", "application", "article", "banner", "button", "cell", "checkbox", "columnheader", "combobox",
		"complementary",
		"contentinfo", "dialog", "figure", "form", "grid", "gridcell", "group", "heading", "img", "link", "list",
		"listbox",
		"listitem", "log", "main", "menu", "menubar", "menuitem", "meter", "navigation", "note", "option",
		"progressbar",
		"radio", "radiogroup", "region", "row", "scrollbar", "search", "searchbox", "separator", "slider", "spinbutton",
		"status", "switch", "tab", "table", "tablist", "tabpanel", "textbox", "timer", "toolbar", "tooltip", "tree",
		"treeitem",
	} {
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
	if !p.targetFollows && p.accept("in") {
		p.deeper(func() { e.In = p.element() })
	}
	if t := p.peek(); t.Is("near") || t.Is("above") || t.Is("below") || t.Is("left") || t.Is("right") {
		p.notReady(t)
	}
	last := p.tokens[p.at-1]
	e.Length = last.Pos.Column + last.Length - first.Pos.Column
	e.Text = e.canonical()
	return e
}

func (p *parser) unknownRole(t token.Token) {
	if t.Is("xpath") || t.Is("word") {
		p.notReady(t)
	}
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
	case strings.ContainsAny(name, " {\""):
		p.failAt(at, length, `for a plain brace write \{`, "{ opens the name of a value, as in {island}")
	}
}

func (e *Element) canonical() string {
	l := screen.Locator{ID: e.ID, Role: e.Role, Ordinal: e.Ordinal, Label: e.Label.source(), Called: e.Called.source()}
	text := l.String()
	if e.In != nil {
		text += " in " + e.In.Text // made already, from the tail on
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
	var b strings.Builder
	switch {
	case e.Ordinal == screen.Last:
		b.WriteString("last ")
	case e.Ordinal != NoOrdinal:
		b.WriteString(token.OrdinalOf(e.Ordinal) + " ")
	}
	switch {
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
	if e.In != nil {
		b.WriteString(" in " + e.In.words())
	}
	return b.String()
}

func (w *Wanted) words() string {
	if w.Pattern != nil {
		return "/" + strings.ReplaceAll(w.Pattern.String(), "/", `\/`) + "/"
	}
	return w.Text.words()
}

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
