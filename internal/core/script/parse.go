package script

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// Read reads a suite and checks it. The suite holds what could be understood;
// it may run only if no finding is a fault.
func Read(text string) (*Suite, []Finding) {
	p := read(text)
	if p.tokens != nil {
		p.check()
	}
	return p.suite, p.sorted()
}

// read reads a suite and checks what can be seen statement by statement.
func read(text string) *parser {
	p := &parser{suite: &Suite{}, lines: token.Lines(text), unread: map[int]bool{}, attempted: map[string]bool{},
		broken: map[*Case]bool{}}
	if len(text) > token.MaxText {
		p.report(Finding{Pos: Pos{Line: 1, Column: 1}, Length: 1,
			Message: fmt.Sprintf("the file is larger than the %d MB that a suite may have", token.MaxText>>20)})
		return p
	}
	if token.Odd(p.lines, p.scanned) {
		return p
	}
	p.tokens = token.Scan(text, p.scanned)
	p.file()
	return p
}

type parser struct {
	depth         int  // of what is being read
	targetFollows bool // the `in` after a value names what it is put into
	steps         int
	patterns      int // instructions of all patterns so far
	tokens        []token.Token
	at            int
	lines         []string
	suite         *Suite
	named         bool
	findings      []Finding

	unread    map[int]bool    // lines on which something could not even be cut into words
	attempted map[string]bool // names that a `let` was to give, though it could not be read
	broken    map[*Case]bool  // cases of which some statement could not be read
	failed    int             // statements that could not be read
	blocks    int             // that are open
	unclosed  int             // the line before which an `end` was found missing
}

// bail leaves a statement that cannot be read; the parser goes on at the next line.
type bail struct{}

// scanned reports what is no word of any language: nothing more is said of its line.
func (p *parser) scanned(f Finding) {
	p.report(f)
	if !f.Advice {
		p.unread[f.Pos.Line] = true
	}
}

func (p *parser) report(f Finding) {
	if len(p.findings) < maxFindings {
		p.findings = append(p.findings, f.Excerpt(p.lines))
	}
}

// sorted gives the findings in the order of their places.
func (p *parser) sorted() []Finding {
	if len(p.findings) == maxFindings {
		p.findings[maxFindings-1] = Finding{Pos: p.findings[maxFindings-1].Pos, Length: 1,
			Message: "there are more findings than can be listed", Hint: "mend these first"}
	}
	slices.SortStableFunc(p.findings, func(a, b Finding) int {
		if a.Pos.Line != b.Pos.Line {
			return a.Pos.Line - b.Pos.Line
		}
		return a.Pos.Column - b.Pos.Column
	})
	return p.findings
}

func (p *parser) faultAt(at Pos, length int, hint, format string, args ...any) {
	if !p.unread[at.Line] {
		p.report(Finding{Pos: at, Length: max(1, length), Message: fmt.Sprintf(format, args...), Hint: hint})
	}
}

func (p *parser) fault(t token.Token, hint, format string, args ...any) {
	p.faultAt(t.Pos, t.Length, hint, format, args...)
}

func (p *parser) fail(t token.Token, hint, format string, args ...any) {
	p.failAt(t.Pos, t.Length, hint, format, args...)
}

func (p *parser) failAt(at Pos, length int, hint, format string, args ...any) {
	p.faultAt(at, length, hint, format, args...)
	panic(bail{})
}

func (p *parser) advise(at Pos, length int, message string) {
	p.report(Finding{Pos: at, Length: length, Message: message, Advice: true})
}

// notReady refuses a word that belongs to the language.
func (p *parser) notReady(t token.Token) {
	p.fail(t, "see docs/script.md for what there is", "%s belongs to the language but is not ready in this version", t)
}

func (p *parser) peek() token.Token { return p.tokens[p.at] }

// next takes a token; the end of a line stays, so that a line never takes of the next.
func (p *parser) next() token.Token {
	t := p.tokens[p.at]
	if !t.EndsLine() {
		p.at++
	}
	return t
}

func (p *parser) accept(words ...string) bool {
	for i, w := range words {
		if p.at+i >= len(p.tokens) || !p.tokens[p.at+i].Is(w) {
			return false
		}
	}
	p.at += len(words)
	return true
}

func (p *parser) want(word string) {
	if !p.accept(word) {
		p.fail(p.peek(), token.Meant(p.peek().Raw, []string{word}), "`%s` is missing before %s", word, p.peek())
	}
}

func (p *parser) wantString(what string) token.Token {
	t := p.peek()
	if t.Kind != token.String {
		p.fail(t, `write it in double quotes: "…"`, "%s is missing before %s", what, t)
	}
	return p.next()
}

// skipLine goes to the end of the line.
func (p *parser) skipLine() {
	for !p.peek().EndsLine() {
		p.at++
	}
}

// line runs read on one statement and goes to the next line, whatever happens.
func (p *parser) line(read func()) {
	p.depth, p.targetFollows = 0, false
	defer func() {
		if r := recover(); r != nil {
			if _, ok := r.(bail); !ok {
				panic(r)
			}
			p.failed++
		}
		p.skipLine()
	}()
	read()
	if t := p.peek(); !t.EndsLine() {
		p.fail(t, "a statement ends with its line", "%s is not expected here", t)
	}
}

func (p *parser) blank() bool {
	for p.peek().Kind == token.Line {
		p.at++
	}
	return p.peek().Kind == token.End
}

var fileWords = []string{"suite", "tags", "patience", "keep", "before", "case"}

func (p *parser) file() {
	for !p.blank() {
		p.line(p.fileLine)
	}
}

func (p *parser) fileLine() {
	first := p.peek()
	switch {
	case p.accept("suite"):
		was := p.named
		p.named = true // what is wrong with its name is told below, and once
		name := p.wantString("the suite's name")
		if was {
			p.fault(first, "one file is one suite", "this file has a name already")
		}
		p.suite.Name = p.name(name, "a suite's name")
	case p.accept("tags"):
		if p.suite.Tags = append(p.suite.Tags, p.tags()...); len(p.suite.Tags) > maxTags {
			p.suite.Tags = p.suite.Tags[:maxTags]
			p.fail(first, "", "there are at most %d tags", maxTags)
		}
	case p.accept("patience"):
		p.suite.Patience = p.duration("the patience, which is a duration,")
	case p.accept("keep", "app", "between", "cases"):
		p.suite.KeepApp = true
	case p.accept("before", "each"):
		p.beforeEach(first)
	case p.accept("case"):
		p.caseBlock(first)
	default:
		p.oddFileLine(first)
	}
}

// oddFileLine reads on behind a first word that is none of the file's: what was meant to
// open a block opens it, so that one slip is one finding.
func (p *parser) oddFileLine(first token.Token) {
	named := p.tokens[min(p.at+1, len(p.tokens)-1)].Kind == token.String
	meant := token.Meant(first.Raw, fileWords)
	switch {
	case first.Kind != token.Word:
		p.fail(first, "", "a line begins with a word, not with %s", first)
	case named && (meant == "did you mean `case`?" || slices.Contains(foreignCases, first.Text)):
		p.fault(first, "a test is written: case \"…\" … end", "unknown word %s", first)
		p.next()
		p.caseBlock(first)
	case meant == "did you mean `before`?" && p.tokens[p.at+1].Kind == token.Word, first.Is("before"):
		p.fault(first, "write: before each", "%s begins nothing that this version knows", first)
		p.skipLine()
		p.beforeEach(first)
	case first.Is("keep"):
		p.fail(first, "write: keep app between cases", "%s begins nothing that this version knows", first)
	case first.Is("end"):
		p.fail(first, "", "there is nothing open here that `end` could close")
	case forms[first.Text].read != nil:
		p.fault(first, "put it between `case \"…\"` and `end`", "%s is a step, and steps stand in a case", first)
		// it was said once
		for p.skipLine(); !p.blank() && (forms[p.peek().Text].read != nil || p.peek().Is("end")); p.skipLine() {
			continue
		}
		p.at = max(p.at-1, 0)
	default:
		p.unknown(first, fileWords)
	}
}

// foreignCases are words that other languages open a test with.
var foreignCases = []string{"test", "it", "scenario", "spec", "check", "describe"}

func (p *parser) unknown(t token.Token, known []string) {
	if t.Kind != token.Word {
		p.fail(t, "", "a line begins with a word, not with %s", t)
	}
	if planned[t.Text] {
		p.notReady(t)
	}
	hint := token.Foreign(t.Text)
	if hint == "" {
		hint = token.Meant(t.Raw, known)
	}
	p.fail(t, hint, "unknown word %s", t)
}

// name gives a suite's or a case's name.
func (p *parser) name(t token.Token, what string) string {
	name := t.Plain()
	if strings.TrimSpace(name) == "" || utf8.RuneCountInString(name) > maxTitle {
		p.fault(t, "", "%s has 1 to %d characters", what, maxTitle)
	}
	return name
}

func (p *parser) tags() []string {
	var tags []string
	for {
		t := p.next()
		if t.Kind != token.Word {
			p.fail(t, "tags are plain words with commas between them", "a tag is missing before %s", t)
		}
		switch {
		case utf8.RuneCountInString(t.Text) > maxTag:
			p.fail(t, "", "a tag has at most %d characters", maxTag)
		case len(tags) == maxTags:
			p.fail(t, "", "there are at most %d tags", maxTags)
		}
		tags = append(tags, t.Text)
		if !p.peek().IsSign(",") {
			return tags
		}
		p.next()
	}
}

func (p *parser) duration(what string) time.Duration {
	t := p.peek()
	if t.Kind != token.Duration {
		hint := "write it with its unit: 500ms, 8s, 2m"
		if t.Kind == token.Number {
			p.fail(t, hint, "%s needs a unit", t)
		}
		p.fail(t, hint, "%s is missing before %s", what, t)
	}
	return p.next().Time
}

func (p *parser) beforeEach(first token.Token) {
	b := p.block(first, "before each")
	if p.suite.Before == nil {
		p.suite.Before = &Block{}
	}
	p.suite.Before.Steps = append(p.suite.Before.Steps, b.Steps...)
}

func (p *parser) caseBlock(first token.Token) {
	c := &Case{Pos: first.Pos}
	failed := p.failed
	if t := p.peek(); t.Kind == token.String {
		c.Name = p.name(p.next(), "a case's name")
	} else {
		p.fault(t, `write it in double quotes: case "…"`, "the case's name is missing before %s", t)
		p.skipLine()
		p.failed++
	}
	if p.accept("tags") {
		c.Tags = p.tags()
	}
	if t := p.peek(); t.Is("needs") {
		p.fault(t, "see docs/script.md for what there is",
			"%s belongs to the language but is not ready in this version", t)
		p.skipLine()
	}
	c.Body = p.block(first, "case")
	if len(p.suite.Cases) == maxCases {
		p.fail(first, "cut the suite in two", "a suite has at most %d cases", maxCases)
	}
	p.broken[c] = p.failed > failed
	p.suite.Cases = append(p.suite.Cases, c)
}

// block reads statements up to `end`.
func (p *parser) block(opened token.Token, what string) *Block {
	if t := p.peek(); !t.EndsLine() {
		p.fault(t, "steps begin on the next line", "%s is not expected here", t)
		p.skipLine()
	}
	if p.blocks++; p.blocks > maxDepth {
		p.fault(opened, "", "blocks are nested more than %d deep", maxDepth)
	}
	defer func() { p.blocks-- }()
	b := &Block{}
	for !p.blank() {
		t := p.peek()
		if p.accept("end") {
			return b
		}
		follows := p.tokens[p.at+1]
		if (t.Is("case") || t.Is("suite")) && follows.Kind == token.String || t.Is("before") && follows.Is("each") {
			p.neverClosed(opened, what, t)
			p.at-- // the caller's line ends here; the new block is read afresh
			for p.at > 0 && p.tokens[p.at].Kind != token.Line {
				p.at--
			}
			return b
		}
		if t.Kind == token.Word && follows.EndsLine() && forms[t.Text].read == nil &&
			token.Meant(t.Raw, []string{"end"}) != "" {
			p.fault(t, "did you mean `end`?", "unknown word %s", t)
			p.failed++
			p.next()
			return b
		}
		if p.steps++; p.steps == maxSteps {
			p.fault(t, "cut the suite in two", "a suite has at most %d steps", maxSteps)
		}
		p.line(func() {
			if st := p.statement(); st != nil {
				b.Steps = append(b.Steps, st)
			}
		})
	}
	p.neverClosed(opened, what, p.peek())
	return b
}

// neverClosed tells of a block without `end`, once where several miss theirs.
func (p *parser) neverClosed(opened token.Token, what string, before token.Token) {
	hint := "add `end` after its last step"
	if before.Kind != token.End {
		hint = fmt.Sprintf("add `end` before line %d", before.Pos.Line)
	}
	if p.unclosed != before.Pos.Line {
		p.faultAt(opened.Pos, opened.Length, hint, "this `%s` is never closed", what)
	}
	p.unclosed = before.Pos.Line
	p.failed++
}

func (p *parser) statement() Statement {
	first := p.peek()
	f, known := forms[first.Text]
	switch {
	case first.Kind == token.Number && p.tokens[p.at+1].Is("times"):
		f = repeat
	case first.Kind != token.Word || !known:
		p.unknown(first, stepWords())
	default:
		p.next()
	}
	st := f.read(p, Step{Pos: first.Pos, Text: p.source(first)})
	if p.accept("within") {
		st.base().Within = p.duration("a duration after `within`")
	}
	return st
}

// source is a line as it was written, from its first word to its last.
func (p *parser) source(first token.Token) string {
	last := first
	for i := p.at; !p.tokens[i].EndsLine(); i++ {
		last = p.tokens[i]
	}
	line := []rune(strings.TrimPrefix(p.lines[first.Pos.Line-1], "\ufeff"))
	from, to := first.Pos.Column-1, last.Pos.Column-1+last.Length
	return screen.Fold(string(line[min(from, len(line)):min(to, len(line))]))
}
