package script

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// Ending is what the names of script files end in; they ended in oldEnding before, and are still read.
const (
	Ending    = ".yamato"
	oldEnding = ".suite"
)

// IsFile tells whether a name is that of a script file.
func IsFile(name string) bool {
	return strings.HasSuffix(name, Ending) || strings.HasSuffix(name, oldEnding)
}

// Renamed gives the name of a script file as it ends now.
func Renamed(name string) string {
	if before, ok := strings.CutSuffix(name, oldEnding); ok {
		return before + Ending
	}
	return name
}

// Ended adds to the findings of a file that its name ends as before, where nothing else tells that it is an old one.
func Ended(name string, findings []Finding) []Finding {
	if Renamed(name) == name || slices.ContainsFunc(findings,
		func(f Finding) bool { return f.Rule == token.AsBefore }) {
		return findings
	}
	return append(findings, asBefore(Pos{Line: 1, Column: 1}, 1))
}

// text gives a file that is used, by the name that it has: with the ending of now, or that of before.
func (p *parser) text(file string) (name, text string, err error) {
	if text, err = p.files.Text(file); err == nil {
		return file, text, nil
	}
	for _, other := range []string{Renamed(file), strings.TrimSuffix(file, Ending) + oldEnding} {
		if other == file {
			continue
		}
		if text, err := p.files.Text(other); err == nil {
			return other, text, nil
		}
	}
	return file, "", err
}

// use reads a file with actions, once however often it is used.
func (p *parser) use(first token.Token) {
	t := p.wantString("the file's path")
	file, why := Beside(p.name, t.Plain())
	if why != "" {
		p.fail(t, `a path from this file's folder on: use "steps/signing-in.yamato"`, "%s", why)
	}
	if !IsFile(file) {
		p.fail(t, "", "a file that is used ends in "+Ending)
	}
	if Renamed(file) != file {
		p.asBefore(t.Pos, t.Length)
	}
	if p.files == nil {
		p.fail(t, "check or hand in the file that it is written in: `yamato suite check FILE`",
			"no files are at hand here")
	}
	file, text, err := p.text(file)
	u := &Use{Pos: t.Pos, Length: t.Length, Path: t.Plain(), File: file}
	p.suite.Uses = append(p.suite.Uses, u)
	if at := slices.Index(p.using, file); at >= 0 {
		p.fail(t, "move what both need into a third file", "files use each other in a circle: %s",
			strings.Join(append(slices.Clone(p.using[at:]), file), " uses "))
	}
	if p.read[file] {
		return
	}
	if len(p.read) >= maxFiles {
		p.fail(t, "", "a suite uses at most %d files", maxFiles)
	}
	p.read[file] = true
	if err != nil {
		p.fail(t, "paths are counted from the folder of the file that uses them", "%s cannot be read: %s", file, err)
	}
	p.order = append(p.order, file)
	other := p.shared.parser(file, text, p.suite)
	other.named = true
	p.using = append(p.using, file)
	other.whole(text)
	p.using = p.using[:len(p.using)-1]
	if other.failed == 0 && other.tokens != nil {
		other.checkActions()
	}
}

// Beside gives what a path in a file means, counted from the suite's folder on. It tells why a
// path is none.
func Beside(file, name string) (string, string) {
	switch {
	case strings.TrimSpace(name) == "" || len(name) > 300:
		return "", "a path has 1 to 300 bytes"
	case strings.ContainsAny(name, "\\:\x00") || path.IsAbs(name):
		return "", "a path is counted from this file's folder on, with slashes"
	}
	joined := path.Join(path.Dir(file), name)
	if strings.HasPrefix(joined, "../../..") {
		return "", "a path leads at most two folders up"
	}
	return joined, ""
}

// IsShared tells whether a text is a file that suites use, and no suite: it has actions, and
// neither a name nor cases.
func IsShared(text string) bool {
	p := read(text, nil)
	return !p.named && len(p.suite.declared) == 0 && len(p.suite.Actions) > 0
}

// ReadShared checks a file that suites use by itself.
func ReadShared(name, text string, files Files) (*Suite, []Finding) {
	p := readShared(name, text, files)
	return p.suite, p.sorted()
}

func readShared(name, text string, files Files) *parser {
	shared := newShared(files)
	shared.read[name], shared.using, shared.order = true, []string{name}, []string{name}
	p := shared.parser(name, text, &Suite{})
	p.named = true
	p.whole(text)
	if p.tokens != nil {
		p.resolve()
		p.checkActions()
	}
	return p
}

// action reads an action: its name, in which $values stand, and its steps.
func (p *parser) action(first token.Token) {
	a := &Action{Pos: first.Pos, Length: first.Length}
	failed := p.failed
	p.attempt(func() { p.actionName(a) })
	if p.failed > failed {
		p.skipLine() // its steps are read all the same
	} else if a.Words == nil || a.Words[0] == "" {
		p.fault(first, "action choose the crossing $from to $to", "an action's name begins with a word")
		p.failed++
	}
	p.inAction = a
	a.Body = p.block(first, "action")
	p.inAction = nil
	p.broken[a] = p.failed > failed
	if other := p.actions[a.Signature()]; other != nil {
		p.fault(first, "give each action a name of its own", "an action of this name stands %s already",
			placed(other.Pos))
		return
	}
	if len(p.suite.Actions) == maxActions {
		p.fault(first, "cut the suite in two", "a suite and the files that it uses have at most %d actions", maxActions)
		p.giveUp()
		return
	}
	p.actions[a.Signature()] = a
	p.suite.Actions = append(p.suite.Actions, a)
}

func (p *parser) actionName(a *Action) {
	for !p.peek().EndsLine() {
		t := p.next()
		if len(a.Words) == maxWords {
			p.fail(t, "", "an action's name has at most %d words", maxWords)
		}
		a.Spots = append(a.Spots, t.Pos)
		switch t.Kind {
		case token.Word:
			if t.Is("within") {
				p.fail(t, "choose another word", "an action's name cannot have %s in it", t)
			}
			a.Words = append(a.Words, t.Text)
		case token.Variable:
			if !token.IsName(t.Text) || strings.Contains(t.Text, ".") {
				p.fail(t, "letters, digits and _", "an action cannot ask for a value called %s", t)
			}
			if slices.ContainsFunc(a.Params, func(o Param) bool { return o.Name == t.Text }) {
				p.fault(t, "", "this action asks for %s twice", t)
			}
			a.Words = append(a.Words, "")
			a.Params = append(a.Params, Param{t.Pos, t.Text})
		default:
			p.fail(t, "action choose the crossing $from to $to",
				"an action's name is made of words and $values, not of %s", t)
		}
	}
}

// Signature is an action's name with $ where values stand.
func (a *Action) Signature() string { return signature(a.Words) }

func signature(words []string) string {
	out := slices.Clone(words)
	for i, w := range out {
		if w == "" {
			out[i] = "$"
		}
	}
	return strings.Join(out, " ")
}

// Usage is how an action is called.
func (a *Action) Usage() string {
	out, n := slices.Clone(a.Words), 0
	for i, w := range out {
		if w == "" {
			out[i] = "$" + a.Params[n].Name
			n++
		}
	}
	return strings.Join(out, " ")
}

func placed(at Pos) string {
	if at.File != "" {
		return "in " + at.File + " on line " + strconv.Itoa(at.Line)
	}
	return "on line " + strconv.Itoa(at.Line)
}

// needs reads what a case needs of a device.
func (p *parser) needs() []string {
	var out []string
	for {
		t := p.next()
		if t.Kind != token.Word && t.Kind != token.String {
			p.fail(t, "needs camera, rotation", "a trait or an ability is missing before %s", t)
		}
		name := t.Plain()
		for t.Kind == token.Word && p.peek().Kind == token.Word && !p.peek().Is("tags") { // "text size"
			name += " " + p.next().Text
		}
		if !slices.Contains(Needed(), name) {
			p.fault(t, token.Meant(name, Needed()), "no device has a trait or an ability called %q", name)
		}
		out = append(out, name)
		if !p.peek().IsSign(",") {
			return out
		}
		p.next()
	}
}

// caseBody reads the steps of a case, with the rows of data that stand before them.
func (p *parser) caseBody(first token.Token) (*Block, *data) {
	if t := p.peek(); !t.EndsLine() {
		return p.block(first, "case"), nil
	}
	from := p.at
	var d *data
	if !p.blank() && p.peek().Is("each") {
		p.line(func() { d = p.data() })
	} else {
		p.at = from
	}
	return p.block(first, "case"), d
}

// data reads rows: the names of their values, and a line for each.
func (p *parser) data() *data {
	first := p.next()
	d := &data{pos: first.Pos}
	for {
		t := p.next()
		if t.Kind != token.Word && t.Kind != token.Variable || !token.IsName(t.Text) || strings.Contains(t.Text, ".") {
			p.fail(t, "each island, ships", "a name for the values is missing before %s", t)
		}
		if slices.ContainsFunc(d.names, func(o Param) bool { return o.Name == t.Text }) {
			p.fault(t, "", "two values of a row are called %s", t)
		}
		d.names = append(d.names, Param{t.Pos, t.Text})
		if !p.peek().IsSign(",") {
			break
		}
		p.next()
	}
	p.opens(first)
	defer func() { p.blocks-- }()
	failed := p.failed
	for !p.blank() {
		t := p.peek()
		if p.accept("end") {
			if len(d.rows) == 0 && p.failed == failed {
				p.fault(first, "write a line for each: \"Sora\", 3", "there is no row of data")
			}
			return d
		}
		if p.endMissing(first, "each", t) {
			return d
		}
		p.line(func() { p.row(d) })
	}
	p.neverClosed(first, "each", p.peek())
	return d
}

func (p *parser) row(d *data) {
	first := p.peek()
	r := row{pos: first.Pos}
	for {
		v, words := p.literal(`"Sora", 3`, "a row holds texts and numbers")
		r.values, r.words = append(r.values, v), append(r.words, words)
		if !p.peek().IsSign(",") {
			break
		}
		p.next()
	}
	if len(r.values) != len(d.names) {
		p.fail(first, "", "this row has %d of the %d values that `each` names", len(r.values), len(d.names))
	}
	if len(d.rows) == maxRows {
		p.fail(first, "", "a case has at most %d rows of data", maxRows)
	}
	d.rows = append(d.rows, r)
}

// literal reads a text or a number, and how it is written.
func (p *parser) literal(hint, what string) (amount.Value, string) {
	minus := p.peek().IsSign("-")
	if minus {
		p.next()
	}
	switch t := p.next(); {
	case t.Kind == token.String && !minus:
		return amount.Value{Text: t.Plain()}, quote(t.Plain())
	case t.Kind == token.Number || t.Kind == token.Percent:
		v := amount.Value{Number: t.Number}
		if minus {
			v.Number = newRat().Neg(t.Number)
		}
		return v, v.String()
	default:
		p.fail(t, hint, "%s, not %s", what, t)
		return amount.Value{}, ""
	}
}

// expand makes a case of each row of data.
func (p *parser) expand(c *Case, name token.Token) {
	if name.Kind != token.String {
		p.suite.Cases = append(p.suite.Cases, c)
		return
	}
	if c.data == nil {
		c.Name = p.title(name, "a case's name")
		p.suite.Cases = append(p.suite.Cases, c)
		return
	}
	var tpl *Template
	p.attempt(func() { tpl = p.template(name) })
	c.Name = p.title(name, "a case's name")
	if tpl == nil {
		return
	}
	for _, part := range tpl.Parts {
		if part.Variable != "" && !slices.ContainsFunc(c.data.names,
			func(n Param) bool { return n.Name == part.Variable }) {
			p.faultAt(part.Pos, len([]rune(part.Variable))+2, "", "the rows of this case have no value called `%s`",
				part.Variable)
			return
		}
	}
	seen := map[string]Pos{}
	for _, r := range c.data.rows {
		one := *c
		one.Values, one.Row = map[string]amount.Value{}, r.pos
		for i, n := range c.data.names {
			one.Values[n.Name] = r.values[i]
		}
		one.Name = tpl.with(one.Values)
		if first, twice := seen[screen.Fold(one.Name)]; twice {
			p.faultAt(r.pos, 1, "put what tells the rows apart into the case's name, as in \"the {island} timetable\"",
				"this row makes a case of the same name as line %d does: %q", first.Line, one.Name)
			continue
		}
		seen[screen.Fold(one.Name)] = r.pos
		if len([]rune(one.Name)) > maxTitle {
			p.faultAt(r.pos, 1, "", "with this row, the case's name has more than %d characters", maxTitle)
			continue
		}
		if len(p.suite.Cases) >= maxCases {
			p.fault(name, "cut the suite in two", "a suite has at most %d cases, each row of data being one", maxCases)
			return
		}
		p.suite.Cases = append(p.suite.Cases, &one)
	}
}

// attempt reads something that may fail without failing the whole line.
func (p *parser) attempt(read func()) {
	defer func() {
		if r := recover(); r != nil {
			if _, ok := r.(bail); !ok {
				panic(r)
			}
			p.failed++
		}
	}()
	read()
}
