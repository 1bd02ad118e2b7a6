package script

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"yamato/internal/core/evidence"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// Files are what lies beside a suite.
type Files interface {
	// Text gives a file by its path from the suite's folder on, with slashes. Its error is told
	// in a finding.
	Text(path string) (string, error)
}

// FileMap are files by their paths, for what has them at hand.
type FileMap map[string]string

// Text gives one.
func (m FileMap) Text(path string) (string, error) {
	text, ok := m[path]
	if !ok {
		return "", errNoFile
	}
	return text, nil
}

var errNoFile = errors.New("there is no such file")

// Read reads a suite that uses no other files, and checks it. The suite holds what could be
// understood; it may run only if no finding is a fault.
func Read(text string) (*Suite, []Finding) { return ReadWith(text, nil) }

// ReadWith reads a suite with the files that it uses, and checks them together. A finding in
// one of those says so in its position.
func ReadWith(text string, files Files) (*Suite, []Finding) {
	p := read(text, files)
	if p.tokens != nil {
		p.check()
	}
	return p.suite, p.sorted()
}

// read reads a suite and checks what can be seen statement by statement.
func read(text string, files Files) *parser {
	p := newShared(files).parser("", text, &Suite{})
	p.whole(text)
	return p
}

func newShared(files Files) *shared {
	return &shared{files: files, read: map[string]bool{}, broken: map[Node]bool{}, expecting: map[*Action]bool{},
		actions: map[string]*Action{}}
}

// parser is one for one of the files, "" for the suite's own.
func (s *shared) parser(name, text string, suite *Suite) *parser {
	return &parser{shared: s, name: name, suite: suite, lines: token.Lines(text), unread: map[int]bool{},
		attempted: map[string]bool{}}
}

// whole reads the text of one file.
func (p *parser) whole(text string) {
	if p.suite.sources == nil {
		p.suite.sources = map[string][]string{}
	}
	p.suite.sources[p.name] = p.lines
	if p.size += len(text); p.size > token.MaxText {
		p.report(Finding{Pos: Pos{Line: 1, Column: 1}, Length: 1,
			Message: fmt.Sprintf("the file is larger than the %d MB that a suite, with what it uses, may have",
				token.MaxText>>20)})
		return
	}
	if token.Odd(p.lines, p.scanned) {
		return
	}
	p.tokens = token.Scan(text, p.scanned)
	if p.name != "" {
		for i := range p.tokens {
			p.tokens[i].Pos.File = p.name
		}
	}
	p.file()
}

// shared is what the readers of a suite's files have in common.
type shared struct {
	files     Files
	read      map[string]bool // files that have been read, or are being read
	using     []string        // files that are being read, from the suite on
	order     []string        // files in the order in which they were used
	size      int             // bytes of all files
	steps     int
	patterns  int // instructions of all patterns so far
	findings  []Finding
	calls     []*Call // to be given the actions that they name
	expecting map[*Action]bool
	actions   map[string]*Action // by their signatures
	broken    map[Node]bool      // cases and actions of which some statement could not be read
}

type parser struct {
	*shared
	name          string // of the file, "" for the suite's own
	depth         int    // of what is being read
	targetFollows bool   // the `in` after a value names what it is put into
	tokens        []token.Token
	at            int
	lines         []string
	suite         *Suite
	named         bool

	unread    map[int]bool    // lines on which something could not even be cut into words
	attempted map[string]bool // names that a `let` was to give, though it could not be read
	failed    int             // statements that could not be read
	blocks    int             // that are open
	gaveUp    bool            // the rest is not read, as the text is past a bound
	old       bool            // it has been told that something is written as before
	unclosed  int             // the line before which an `end` was found missing
	inAction  *Action         // that is being read
	suiteTold bool            // that this file is a suite, and no actions, has been told
}

// bail leaves a statement that cannot be read; the parser goes on at the next line.
type bail struct{}

// scanned reports what is no word of any language: nothing more is said of its line.
func (p *parser) scanned(f Finding) {
	f.Rule = token.Signs
	p.report(f)
	if !f.Advice {
		p.unread[f.Pos.Line] = true
	}
}

func (p *parser) report(f Finding) {
	if f.Pos.File == "" {
		f.Pos.File = p.name
	}
	if f.Rule == "" {
		f.Rule = token.Form
	}
	if len(p.findings) < maxFindings {
		p.findings = append(p.findings, f.Excerpt(p.lines))
	}
}

// sorted gives the findings in the order of their files and places.
func (p *parser) sorted() []Finding {
	if len(p.findings) == maxFindings {
		p.findings[maxFindings-1] = Finding{Pos: p.findings[maxFindings-1].Pos, Length: 1,
			Rule: token.TooMany, Message: "there are more findings than can be listed", Hint: "mend these first"}
	}
	rank := map[string]int{}
	for i, name := range p.order {
		rank[name] = i + 1
	}
	slices.SortStableFunc(p.findings, func(a, b Finding) int {
		return cmp.Or(rank[a.Pos.File]-rank[b.Pos.File], a.Pos.Line-b.Pos.Line, a.Pos.Column-b.Pos.Column)
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

// asBefore advises, once a file, that something is written as it was before.
func (p *parser) asBefore(at Pos, length int) {
	if p.old {
		return
	}
	p.old = true
	p.report(asBefore(at, length))
}

func asBefore(at Pos, length int) Finding {
	return Finding{Pos: at, Length: length, Rule: token.AsBefore, Message: "this is written as it was before",
		Advice: true,
		Hint:   "a field is set by `set E to V`, and files end in " + Ending + "; `yamato suite format --write` mends it"}
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

// wantPhrase takes words that belong together.
func (p *parser) wantPhrase(words ...string) {
	for _, w := range words {
		p.want(w)
	}
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

// fileForms are what a line outside of blocks may begin with, and how it is written.
var fileForms = []struct{ word, usage string }{
	{"suite", `suite "…"`},
	{"tags", "tags a, b"},
	{"patience", "patience 8s"},
	{"keep", "keep app between cases"},
	{"keep", "keep video|log|everything|… always|unless passed|never"},
	{"given", `given x = "…"`},
	{"use", `use "steps/….yamato"`},
	{"before", "before each|all … end"},
	{"after", "after each|all … end"},
	{"action", "action … $value … end"},
	{"case", `case "…" [tags a, b] [needs a, b] … end`},
}

func fileWords() []string {
	var out []string
	for _, f := range fileForms {
		out = append(out, f.word)
	}
	return out
}

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
		if p.name != "" {
			p.notShared(first)
		}
		name := p.wantString("the suite's name")
		if was {
			p.fault(first, "one file is one suite", "this file has a name already")
		}
		p.suite.Name = p.title(name, "a suite's name")
	case p.accept("tags"):
		if p.suite.Tags = append(p.suite.Tags, p.tags()...); len(p.suite.Tags) > maxTags {
			p.suite.Tags = p.suite.Tags[:maxTags]
			p.fail(first, "", "there are at most %d tags", maxTags)
		}
	case p.accept("patience"):
		p.suite.Patience = p.duration("the patience, which is a duration,")
	case p.accept("keep", "app", "between", "cases"):
		p.suite.KeepApp = true
	case p.accept("keep"):
		p.keep(first)
	case p.accept("given"):
		p.given(first)
	case p.accept("use"):
		p.use(first)
	case p.accept("before", "each"):
		p.around(first, "before each", &p.suite.Around.BeforeEach)
	case p.accept("before", "all"):
		p.around(first, "before all", &p.suite.Around.BeforeAll)
	case p.accept("after", "each"):
		p.around(first, "after each", &p.suite.Around.AfterEach)
	case p.accept("after", "all"):
		p.around(first, "after all", &p.suite.Around.AfterAll)
	case p.accept("action"):
		p.action(first)
	case p.accept("case"):
		p.caseBlock(first)
	default:
		p.oddFileLine(first)
	}
}

// maxGiven bounds the variables that runs give a suite.
const maxGiven = 20

// given reads a variable that a run may give, with its usual value.
func (p *parser) given(first token.Token) {
	if p.name != "" {
		p.notShared(first)
	}
	t := p.next()
	if t.Kind != token.Word && t.Kind != token.Variable || !token.IsName(t.Text) || strings.Contains(t.Text, ".") {
		p.fail(t, `given traveller = "adult"`, "the variable's name is missing before %s", t)
	}
	if eq := p.next(); !eq.IsSign("=") {
		p.fail(eq, `given traveller = "adult"`, "`=` is missing before %s", eq)
	}
	v, _ := p.literal(`given traveller = "adult"`, "a variable's usual value is a text or a number")
	if slices.ContainsFunc(p.suite.Given, func(g Given) bool { return g.Name == t.Text }) {
		p.fault(t, "", "$%s is given already", t.Text)
		return
	}
	if len(p.suite.Given) == maxGiven {
		p.fail(first, "", "a suite is given at most %d variables", maxGiven)
	}
	p.suite.Given = append(p.suite.Given, Given{Pos: t.Pos, Name: t.Text, Usual: v})
}

// keep reads a rule of what is kept of the suite's cases.
func (p *parser) keep(first token.Token) {
	if p.name != "" {
		p.notShared(first)
	}
	const usage = "write: keep video always, with unless passed or never in place of always; or: keep app between cases"
	sort := p.next()
	if sort.Kind != token.Word {
		p.fail(sort, usage, "a sort of evidence is missing before %s", sort)
	}
	if known := append(slices.Clone(evidence.Sorts), evidence.All); !slices.Contains(known, sort.Text) {
		p.fail(sort, cmp.Or(token.Meant(sort.Raw, append(known, "app")), usage), "%s is no sort of evidence", sort)
	}
	rule := ""
	for _, known := range evidence.Rulings {
		if p.accept(strings.Fields(known)...) {
			rule = known
		}
	}
	if rule == "" {
		t := p.peek()
		p.fail(t, cmp.Or(token.Meant(t.Raw, evidence.Rulings), usage), "a rule is missing before %s", t)
	}
	if _, had := p.suite.Keep[sort.Text]; had {
		p.fault(sort, "", "it was said before whether %s is kept", sort)
		return
	}
	if p.suite.Keep == nil {
		p.suite.Keep = evidence.Rules{}
	}
	p.suite.Keep[sort.Text] = rule
}

// notShared tells that a suite is used as if it were actions.
func (p *parser) notShared(first token.Token) {
	p.suiteTold = true
	p.fail(first, "a file that others use holds actions; leave the name out, or do not use it",
		"a suite cannot be used by another")
}

// oddFileLine reads on behind a first word that is none of the file's: what was meant to
// open a block opens it, so that one slip is one finding.
func (p *parser) oddFileLine(first token.Token) {
	named := p.tokens[min(p.at+1, len(p.tokens)-1)].Kind == token.String
	meant := token.Nearest(first.Raw, fileWords())
	switch {
	case first.Kind != token.Word:
		p.fail(first, "", "a line begins with a word, not with %s", first)
	case named && (meant == "case" || slices.Contains(foreignCases, first.Text)):
		p.fault(first, "a test is written: case \"…\" … end", "unknown word %s", first)
		p.next()
		p.caseBlock(first)
	case first.Is("before") || first.Is("after") || (meant == "before" || meant == "after") &&
		p.tokens[p.at+1].Kind == token.Word:
		word := cmp.Or(meant, first.Text)
		p.fault(first, fmt.Sprintf("write: %s each, or %s all", word, word), "%s begins nothing that there is", first)
		p.skipLine()
		var none *Block
		p.around(first, word+" each", &none)
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
		p.unknown(first, fileWords())
	}
}

// foreignCases are words that other languages open a test with.
var foreignCases = []string{"test", "it", "scenario", "spec", "check", "describe"}

func (p *parser) unknown(t token.Token, known []string) {
	if t.Kind != token.Word {
		p.fail(t, "", "a line begins with a word, not with %s", t)
	}
	hint := token.Foreign(t.Text)
	if hint == "" {
		hint = token.Meant(t.Raw, known)
	}
	p.fail(t, hint, "unknown word %s", t)
}

// title gives a suite's or a case's name.
func (p *parser) title(t token.Token, what string) string {
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

// around reads steps before or after cases.
func (p *parser) around(first token.Token, what string, into **Block) {
	if p.name != "" && !p.suiteTold {
		p.suiteTold = true
		p.fault(first, "put it into the suites; an action may be called from there",
			"a file that others use holds actions alone")
	}
	b := p.block(first, what)
	if *into == nil {
		*into = &Block{}
	}
	(*into).Steps = append((*into).Steps, b.Steps...)
}

func (p *parser) caseBlock(first token.Token) {
	c := &Case{Pos: first.Pos}
	failed := p.failed
	var name token.Token
	if t := p.peek(); t.Kind == token.String {
		name = p.next()
	} else {
		p.fault(t, `write it in double quotes: case "…"`, "the case's name is missing before %s", t)
		p.skipLine()
		p.failed++
	}
	if p.accept("tags") {
		c.Tags = p.tags()
	}
	if p.accept("needs") {
		c.Needs = p.needs()
	}
	if p.accept("tags") {
		c.Tags = append(c.Tags, p.tags()...)
	}
	if p.name != "" && !p.suiteTold {
		p.suiteTold = true
		p.fault(first, "put it into a suite of its own", "a file that others use holds actions alone")
	}
	c.Body, c.data = p.caseBody(first)
	c.End = p.peek().Pos.Line
	if len(p.suite.Cases) >= maxCases {
		p.fail(first, "cut the suite in two", "a suite has at most %d cases", maxCases)
	}
	p.broken[c] = p.failed > failed
	p.suite.declared = append(p.suite.declared, c)
	p.expand(c, name)
}

// block reads statements up to `end`.
func (p *parser) block(opened token.Token, what string) *Block {
	b, _ := p.blockTo(opened, what, "")
	return b
}

// blockTo reads statements up to `end`, or up to another word where that is not "", and tells
// whether it was that.
func (p *parser) blockTo(opened token.Token, what, other string) (b *Block, otherwise bool) {
	p.opens(opened)
	defer func() { p.blocks-- }()
	b = &Block{}
	for !p.blank() {
		t := p.peek()
		if p.accept("end") {
			return b, false
		}
		if other != "" && p.accept(other) {
			return b, true
		}
		if p.endMissing(opened, what, t) {
			return b, false
		}
		if p.steps++; p.steps == maxSteps {
			p.fault(t, "cut the suite in two", "a suite has at most %d steps", maxSteps)
			p.giveUp()
			continue
		}
		p.line(func() {
			if st := p.statement(); st != nil {
				b.Steps = append(b.Steps, st)
			}
		})
	}
	p.neverClosed(opened, what, p.peek())
	return b, false
}

// opens goes from the line that opens a block to the next one.
func (p *parser) opens(opened token.Token) {
	if t := p.peek(); !t.EndsLine() {
		p.fault(t, "steps begin on the next line", "%s is not expected here", t)
		p.skipLine()
	}
	if p.blocks++; p.blocks > maxDepth {
		p.fault(opened, "", "blocks are nested more than %d deep", maxDepth)
		p.giveUp()
	}
}

// giveUp leaves the rest of the text unread, once it is past a bound.
func (p *parser) giveUp() {
	p.at = len(p.tokens) - 1
	p.gaveUp = true
}

// endMissing reports whether a block ends before t though no `end` says so.
func (p *parser) endMissing(opened token.Token, what string, t token.Token) bool {
	follows := p.tokens[min(p.at+1, len(p.tokens)-1)]
	each := follows.Is("each") || follows.Is("all")
	if (t.Is("case") || t.Is("suite")) && follows.Kind == token.String || (t.Is("before") || t.Is("after")) && each ||
		t.Is("action") && follows.Kind == token.Word {
		p.neverClosed(opened, what, t)
		p.at-- // the caller's line ends here; the new block is read afresh
		for p.at > 0 && p.tokens[p.at].Kind != token.Line {
			p.at--
		}
		return true
	}
	if t.Kind == token.Word && follows.EndsLine() && forms[t.Text].read == nil && !t.Is("else") &&
		token.Meant(t.Raw, []string{"end"}) != "" {
		p.fault(t, "did you mean `end`?", "unknown word %s", t)
		p.failed++
		p.next()
		return true
	}
	return false
}

// neverClosed tells of a block without `end`, once where several miss theirs.
func (p *parser) neverClosed(opened token.Token, what string, before token.Token) {
	hint := "add `end` after its last step"
	if before.Kind != token.End {
		hint = fmt.Sprintf("add `end` before line %d", before.Pos.Line)
	}
	if p.unclosed != before.Pos.Line && !p.gaveUp {
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
		if first.Is("else") {
			p.fail(first, "if … else … end", "there is no `if` open that `else` could belong to")
		}
		p.unknown(first, stepWords())
	default:
		p.next()
	}
	st := f.read(p, Step{Pos: first.Pos, Text: p.source(first)})
	b := st.base()
	for b.Within == 0 || b.For == 0 {
		t := p.peek()
		_, expects := st.(expecting)
		switch {
		case b.Within == 0 && p.accept("within"):
			b.Within = p.duration("a duration after `within`")
		case b.For == 0 && expects && t.Is("for"):
			p.next()
			b.For = p.duration("how long it stays so, which is a duration,")
		default:
			return st
		}
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
