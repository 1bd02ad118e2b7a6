package script

import (
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"yamato/internal/core/screen"
)

// Read reads a suite and checks it. The suite holds what could be understood;
// it may run only if no finding is a fault.
func Read(text string) (*Suite, []Finding) {
	p := &parser{suite: &Suite{}, lines: strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")}
	if len(text) > maxText {
		return p.suite, []Finding{{Pos: Pos{1, 1}, Length: 1, Message: fmt.Sprintf("the file is larger than the %d MB that a suite may have", maxText>>20)}}
	}
	p.unreadable(text)
	p.tokens = lex(text, p.report)
	p.file()
	p.check()
	if len(p.findings) == maxFindings {
		p.findings[maxFindings-1] = Finding{Pos: p.findings[maxFindings-1].Pos, Length: 1, Message: "there are more findings than can be listed", Hint: "mend these first"}
	}
	slices.SortStableFunc(p.findings, func(a, b Finding) int {
		if a.Pos.Line != b.Pos.Line {
			return a.Pos.Line - b.Pos.Line
		}
		return a.Pos.Column - b.Pos.Column
	})
	return p.suite, p.findings
}

type parser struct {
	depth    int // of what is being read
	steps    int
	patterns int // instructions of all patterns so far
	tokens   []token
	at       int
	lines    []string
	suite    *Suite
	named    bool
	findings []Finding
}

// bail leaves a statement that cannot be read; the parser goes on at the next line.
type bail struct{}

func (p *parser) report(f Finding) {
	if len(p.findings) >= maxFindings {
		return
	}
	if f.Pos.Line >= 1 && f.Pos.Line <= len(p.lines) {
		f.Line, f.Shift = excerpt(strings.TrimPrefix(p.lines[f.Pos.Line-1], "\ufeff"), f.Pos.Column)
		f.Length = min(f.Length, maxExcerpt)
	}
	f.Message, f.Hint = clipTo(f.Message, maxWords), clipTo(f.Hint, maxWords)
	p.findings = append(p.findings, f)
}

func (p *parser) fault(t token, hint, format string, args ...any) {
	p.report(Finding{Pos: t.pos, Length: max(1, t.length), Message: fmt.Sprintf(format, args...), Hint: hint})
}

func (p *parser) fail(t token, hint, format string, args ...any) {
	p.fault(t, hint, format, args...)
	panic(bail{})
}

func (p *parser) peek() token { return p.tokens[p.at] }

func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != kindEnd {
		p.at++
	}
	return t
}

func (p *parser) accept(words ...string) bool {
	for i, w := range words {
		if p.at+i >= len(p.tokens) || !p.tokens[p.at+i].is(w) {
			return false
		}
	}
	p.at += len(words)
	return true
}

func (p *parser) want(word string) {
	if !p.accept(word) {
		p.fail(p.peek(), meant(p.peek().text, []string{word}), "`%s` is missing before %s", word, p.peek())
	}
}

func (p *parser) wantString(what string) token {
	t := p.peek()
	if t.kind != kindString {
		p.fail(t, `write it in double quotes: "…"`, "%s is missing before %s", what, t)
	}
	return p.next()
}

// line runs read on one statement and goes to the next line, whatever happens.
func (p *parser) line(read func()) {
	p.depth = 0
	defer func() {
		if r := recover(); r != nil {
			if _, ok := r.(bail); !ok {
				panic(r)
			}
		}
		for p.peek().kind != kindLine && p.peek().kind != kindEnd {
			p.at++
		}
	}()
	read()
	if t := p.peek(); t.kind != kindLine && t.kind != kindEnd {
		p.fail(t, "a statement ends with its line", "%s is not expected here", t)
	}
}

func (p *parser) blank() bool {
	for p.peek().kind == kindLine {
		p.at++
	}
	return p.peek().kind == kindEnd
}

var fileWords = []string{"suite", "tags", "patience", "keep app between cases", "before each", "case"}

func (p *parser) file() {
	for !p.blank() {
		p.line(p.fileLine)
	}
}

func (p *parser) fileLine() {
	first := p.peek()
	switch {
	case p.accept("suite"):
		name := p.wantString("the suite's name")
		if p.named {
			p.fault(first, "one file is one suite", "this file has a name already")
		}
		p.suite.Name, p.named = name.text, true
		if strings.TrimSpace(name.text) == "" || len(name.text) > 200 {
			p.fault(name, "", "a suite's name has 1 to 200 characters")
		}
	case p.accept("tags"):
		if p.suite.Tags = append(p.suite.Tags, p.tags()...); len(p.suite.Tags) > maxTags {
			p.suite.Tags = p.suite.Tags[:maxTags]
			p.fail(first, "", "there are at most %d tags", maxTags)
		}
	case p.accept("patience"):
		p.suite.Patience = p.duration("the patience")
	case p.accept("keep", "app", "between", "cases"):
		p.suite.KeepApp = true
	case p.accept("before", "each"):
		p.suite.BeforeEach = append(p.suite.BeforeEach, p.block(first, "before each")...)
	case p.accept("case"):
		p.caseBlock(first)
	default:
		p.unknown(first, fileWords)
	}
}

func (p *parser) unknown(t token, known []string) {
	hint := ""
	if t.kind == kindWord {
		if planned[t.text] {
			p.fail(t, "see docs/script.md for what there is", "`%s` belongs to the language but is not ready in this version", t.text)
		}
		if _, isStep := stepWords[t.text]; isStep {
			p.fail(t, "put it between `case \"…\"` and `end`", "`%s` is a step, and steps stand in a case", t.text)
		}
		hint = meant(t.text, known)
		p.fail(t, hint, "unknown word `%s`", t.text)
	}
	p.fail(t, "", "a line begins with a word, not with %s", t)
}

func (p *parser) tags() []string {
	var tags []string
	for {
		t := p.next()
		if t.kind != kindWord {
			p.fail(t, "tags are plain words with commas between them", "a tag is missing before %s", t)
		}
		switch {
		case utf8.RuneCountInString(t.text) > maxName:
			p.fail(t, "", "a tag has at most %d characters", maxName)
		case len(tags) == maxTags:
			p.fail(t, "", "there are at most %d tags", maxTags)
		}
		tags = append(tags, t.text)
		if !p.peek().sign(",") {
			return tags
		}
		p.next()
	}
}

func (p *parser) duration(what string) time.Duration {
	t := p.peek()
	if t.kind != kindDuration {
		p.fail(t, "write it with its unit: 500ms, 8s, 2m", "%s is missing before %s", what, t)
	}
	return p.next().time
}

func (p *parser) caseBlock(first token) {
	c := Case{Pos: first.pos}
	name := p.wantString("the case's name")
	c.Name = name.text
	if strings.TrimSpace(c.Name) == "" || len(c.Name) > 200 {
		p.fault(name, "", "a case's name has 1 to 200 characters")
	}
	if p.accept("tags") {
		c.Tags = p.tags()
	}
	if p.peek().is("needs") {
		p.fault(p.peek(), "see docs/script.md for what there is", "`needs` belongs to the language but is not ready in this version")
		for p.peek().kind != kindLine {
			p.next()
		}
	}
	c.Body = p.block(first, "case")
	if len(p.suite.Cases) == maxCases {
		p.fail(first, "cut the suite in two", "a suite has at most %d cases", maxCases)
	}
	p.suite.Cases = append(p.suite.Cases, c)
}

// block reads statements up to `end`.
func (p *parser) block(opened token, what string) []Statement {
	if t := p.peek(); t.kind != kindLine && t.kind != kindEnd {
		p.fault(t, "steps begin on the next line", "%s is not expected here", t)
		for p.peek().kind != kindLine && p.peek().kind != kindEnd {
			p.next()
		}
	}
	var body []Statement
	for !p.blank() {
		t := p.peek()
		if p.accept("end") {
			return body
		}
		if (t.is("case") || t.is("suite")) && p.tokens[p.at+1].kind == kindString || t.is("before") && p.tokens[p.at+1].is("each") {
			p.fault(opened, "add `end` before line "+fmt.Sprint(t.pos.Line), "this `%s` is never closed", what)
			p.at-- // the caller's line ends here; the new block is read afresh
			for p.at > 0 && p.tokens[p.at].kind != kindLine {
				p.at--
			}
			return body
		}
		if p.steps++; p.steps == maxSteps {
			p.fault(t, "cut the suite in two", "a suite has at most %d steps", maxSteps)
		}
		p.line(func() {
			if st := p.statement(); st != nil {
				body = append(body, st)
			}
		})
	}
	p.fault(opened, "add `end` after its last step", "this `%s` is never closed", what)
	return body
}

// stepWords gives the reader of each statement by its first word.
var stepWords map[string]func(*parser, Step) Statement

func init() {
	stepWords = map[string]func(*parser, Step) Statement{
		"start": (*parser).startApp, "tap": (*parser).tap, "fill": (*parser).fill, "type": (*parser).typeKeys,
		"press": (*parser).press, "let": (*parser).let, "picture": (*parser).picture, "expect": (*parser).expect,
	}
}

// planned are words of the language that this version does not carry out yet.
var planned = map[string]bool{}

func init() {
	for _, w := range strings.Fields(`use action do double hold clear choose swipe scroll drag pinch spread stop send
		follow update rotate allow deny place tilt shake network battery deliver give note if else ask pause each needs`) {
		planned[w] = true
	}
}

func (p *parser) statement() Statement {
	first := p.peek()
	read, ok := stepWords[first.text]
	if first.kind != kindWord || !ok {
		known := []string{"end"}
		for w := range stepWords {
			known = append(known, w)
		}
		slices.Sort(known)
		p.unknown(first, known)
	}
	p.next()
	st := read(p, Step{Pos: first.pos, Text: p.sourceOf(first)})
	if p.accept("within") {
		st.base().Within = p.duration("how long `within` is")
	}
	return st
}

func (p *parser) sourceOf(t token) string {
	line := p.lines[t.pos.Line-1]
	if cut := commentAt(line); cut >= 0 {
		line = line[:cut]
	}
	return screen.Fold(strings.TrimPrefix(line, "\ufeff"))
}

// commentAt gives where a comment starts outside quotes, or -1.
func commentAt(line string) int {
	quoted := false
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '\\':
			i++
		case line[i] == '"':
			quoted = !quoted
		case !quoted && strings.HasPrefix(line[i:], "//"):
			return i
		}
	}
	return -1
}

func (p *parser) startApp(s Step) Statement {
	p.want("app")
	return &StartApp{s, p.accept("fresh")}
}

func (p *parser) tap(s Step) Statement { return &Tap{s, p.element()} }

func (p *parser) fill(s Step) Statement {
	e := p.element()
	p.want("with")
	return &Fill{s, e, p.expression()}
}

func (p *parser) typeKeys(s Step) Statement {
	t := &Type{Step: s, Value: p.expression()}
	if p.accept("into") {
		e := p.element()
		t.Into = &e
	}
	return t
}

func (p *parser) press(s Step) Statement {
	t := p.next()
	if _, ok := Keys[t.text]; t.kind != kindWord || !ok {
		names := []string{}
		for k := range Keys {
			names = append(names, k)
		}
		slices.Sort(names)
		p.fail(t, meant(t.text, names), "there is no key %s; there are %s", t, strings.Join(names, ", "))
	}
	return &Press{s, t.text}
}

func (p *parser) let(s Step) Statement {
	t := p.next()
	if t.kind != kindWord && t.kind != kindVariable {
		p.fail(t, "let total = number in #total", "the variable's name is missing before %s", t)
	}
	if eq := p.next(); !eq.sign("=") {
		p.fail(eq, "let "+t.text+" = number in #total", "`=` is missing before %s", eq)
	}
	return &Let{s, t.text, p.expression()}
}

func (p *parser) picture(s Step) Statement {
	pic := &TakePicture{Step: s}
	if p.accept("of") {
		e := p.element()
		pic.Element = &e
	}
	p.want("as")
	pic.Name = p.template(p.wantString("the picture's name"))
	if p.peek().is("unless") {
		p.fail(p.peek(), "", "`unless passed` is not ready in this version")
	}
	return pic
}

func (p *parser) expect(s Step) Statement {
	t := p.peek()
	switch {
	case p.accept("no"):
		return &ExpectShown{s, p.element(), true}
	case p.accept("at", "least"):
		return p.count(s, ">=")
	case p.accept("at", "most"):
		return p.count(s, "<=")
	case t.kind == kindNumber && !p.comparisonFollows():
		return p.count(s, "=")
	case t.kind == kindNumber, t.kind == kindVariable, t.sign("("), t.is("number") && p.tokens[p.at+1].is("in"):
		return p.comparison(s)
	}
	e := p.element()
	if p.accept("shows") {
		return &ExpectShows{s, e, p.expression()}
	}
	if t := p.peek(); t.is("contains") || t.is("matches") || t.is("is") || t.is("came") {
		p.fail(t, "see docs/script.md for what there is", "`%s` belongs to the language but is not ready in this version", t.text)
	}
	return &ExpectShown{s, e, false}
}

func (p *parser) comparisonFollows() bool {
	n := p.tokens[p.at+1]
	return n.kind == kindSign && n.text != "," && n.text != "("
}

func (p *parser) count(s Step, compare string) Statement {
	t := p.next()
	n, whole := wholeNumber(t.number)
	if t.kind != kindNumber || !whole {
		p.fail(t, "expect at least 3 listitem in #departures", "a whole number is missing before %s", t)
	}
	return &ExpectCount{s, p.element(), compare, n}
}

func (p *parser) comparison(s Step) Statement {
	left := p.expression()
	t := p.next()
	if t.kind != kindSign || !strings.Contains(" = < > <= >= ", " "+t.text+" ") {
		p.fail(t, "compare with =, <, >, <= or >=", "a comparison is missing before %s", t)
	}
	return &ExpectNumber{s, left, t.text, p.expression()}
}

// expression reads sums of products.
func (p *parser) expression() Value {
	v := p.product()
	for n := 1; p.peek().sign("+") || p.peek().sign("-"); n++ {
		p.fewTerms(n)
		v = Binary{p.next().text, v, p.product()}
	}
	return v
}

func (p *parser) product() Value {
	v := p.operand()
	for n := 1; p.peek().sign("*") || p.peek().sign("/"); n++ {
		p.fewTerms(n)
		v = Binary{p.next().text, v, p.operand()}
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
	case t.kind == kindNumber:
		return Number{t.number}
	case t.kind == kindString:
		return Text{p.template(t)}
	case t.kind == kindVariable:
		return Variable{t.pos, t.text}
	case t.is("number"):
		p.want("in")
		return NumberIn{p.element()}
	case t.sign("-"):
		return Binary{"-", Number{new(big.Rat)}, p.operand()}
	case t.sign("("):
		v := p.expression()
		if c := p.next(); !c.sign(")") {
			p.fail(c, "", "`)` is missing before %s", c)
		}
		return v
	}
	p.fail(t, `a value is a number, a "text", a $variable, or number in an element`, "a value is missing before %s", t)
	return nil
}

// element reads a locator.
func (p *parser) element() Element {
	first := p.peek()
	e := Element{Pos: first.pos}
	if t := p.peek(); t.kind == kindOrdinal {
		e.Ordinal, _ = wholeNumber(p.next().number)
	} else if t.is("last") {
		p.next()
		e.Ordinal = screen.Last
	}
	switch t := p.next(); {
	case t.kind == kindString, t.kind == kindPattern:
		e.Label = p.wanted(t)
	case t.kind == kindID:
		e.ID = t.text
	case t.kind == kindWord && Roles[t.text]:
		e.Role = t.text
		if p.accept("called") {
			e.Called = p.wanted(p.next())
		}
	case t.kind == kindWord:
		p.unknownRole(t)
	default:
		p.fail(t, `name it by its text "…", its #id, or its role`, "an element is missing before %s", t)
	}
	if p.accept("in") {
		p.deeper(func() {
			in := p.element()
			e.In = &in
		})
	}
	if t := p.peek(); t.is("near") || t.is("above") || t.is("below") || t.is("left") || t.is("right") {
		p.fail(t, "see docs/script.md for what there is", "`%s` belongs to the language but is not ready in this version", t.text)
	}
	last := p.tokens[p.at-1]
	e.Length = last.pos.Column + last.length - first.pos.Column
	e.Text = e.canonical()
	return e
}

func (p *parser) unknownRole(t token) {
	if t.text == "xpath" || t.text == "word" {
		p.fail(t, "see docs/script.md for what there is", "`%s` belongs to the language but is not ready in this version", t.text)
	}
	roles := []string{}
	for r := range Roles {
		roles = append(roles, r)
	}
	slices.Sort(roles)
	hint := meant(t.text, roles)
	if hint == "" {
		hint = fmt.Sprintf(`a text stands in quotes: "%s"; an id after a #: #%s`, t.text, t.text)
	}
	p.fail(t, hint, "`%s` is no role that an element can have", t.text)
}

func (p *parser) wanted(t token) *Wanted {
	switch t.kind {
	case kindString:
		tpl := p.template(t)
		if strings.TrimSpace(t.text) == "" {
			p.fail(t, "", "an empty text finds nothing")
		}
		return &Wanted{Text: &tpl}
	case kindPattern:
		size, err := patternSize(t.text)
		if p.patterns += size; err == nil && (size > maxPattern || p.patterns > maxPatterns) {
			p.fail(t, "make it shorter, or repeat less", "this pattern, or all patterns of this file together, are too large")
		}
		re, err := regexp.Compile(t.text)
		if err != nil {
			p.fail(t, "patterns are RE2", "this pattern cannot be read: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
		return &Wanted{Pattern: re}
	}
	p.fail(t, `write "…" or /…/`, "a text or a pattern is missing before %s", t)
	return nil
}

// template cuts a text at its {names}. A brace after a backslash is a brace.
func (p *parser) template(t token) Template {
	tpl := Template{Pos: t.pos}
	var plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			tpl.Parts = append(tpl.Parts, Part{Text: plain.String()})
			plain.Reset()
		}
	}
	for rest := t.text; rest != ""; {
		switch {
		case rest[0] == '\\' && len(rest) > 1:
			plain.WriteByte(rest[1])
			rest = rest[2:]
		case rest[0] == '{':
			name, after, ok := strings.Cut(rest[1:], "}")
			if !ok || name == "" || strings.ContainsAny(name, " {\"") {
				p.fail(t, `for a plain brace write \{`, "{ opens the name of a value, as in {island}")
			}
			flush()
			tpl.Parts = append(tpl.Parts, Part{Variable: strings.ToLower(name)})
			rest = after
		default:
			plain.WriteByte(rest[0])
			rest = rest[1:]
		}
	}
	flush()
	return tpl
}

func (e Element) canonical() string {
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

func (t Template) source() string {
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
