package token

import (
	"fmt"
	"math/big"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"yamato/internal/core/plain"
)

// Pos is a place in a script, counted from 1; columns count characters. File is empty
// for the suite's own file.
type Pos struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// Kind is what a token is.
type Kind int

// The kinds.
const (
	End  Kind = iota // of the text
	Line             // its end
	Word
	String
	Number
	Ordinal
	Duration
	ID
	Variable
	Pattern
	Percent
	Size // in bytes
	Sign // = != < > <= >= + - * / ( ) ,
)

var kindNames = map[Kind]string{
	End: "the end of the file", Line: "the end of the line", Word: "a word", String: "a text in quotes",
	Number: "a number", Ordinal: "an ordinal", Duration: "a duration", ID: "an id", Variable: "a variable",
	Pattern: "a pattern", Percent: "a percentage", Size: "a size", Sign: "a sign",
}

// Token is one of them.
type Token struct {
	Kind   Kind
	Pos    Pos
	Length int    // in characters
	Raw    string // as written
	// words in lower case; strings without quotes, escapes as written; ids and variables without their mark
	Text   string
	Number *big.Rat
	Time   time.Duration
}

// Is reports whether t is a word.
func (t Token) Is(word string) bool { return t.Kind == Word && t.Text == word }

// IsSign reports whether t is a sign.
func (t Token) IsSign(s string) bool { return t.Kind == Sign && t.Text == s }

// EndsLine reports whether nothing follows on the line.
func (t Token) EndsLine() bool { return t.Kind == Line || t.Kind == End }

// String says what t is, as it was written.
func (t Token) String() string {
	switch t.Kind {
	case Word, Sign, Number, Ordinal, Duration, Percent, Size:
		return "`" + plain.Clip(t.Raw, 60) + "`"
	case String, ID, Variable, Pattern:
		return plain.Clip(t.Raw, 60)
	}
	return kindNames[t.Kind]
}

// Plain is what a string says: a mark after a backslash is that mark.
func (t Token) Plain() string { return Unescape(t.Text) }

// Unescape resolves the escapes of a string: \" \\ \{ \} \n. Any other backslash is one.
func Unescape(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) && strings.IndexByte(`"\{}n`, s[i+1]) >= 0 {
			i++
			if s[i] == 'n' {
				b.WriteByte('\n')
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

const eof = -1

// lexer is a state machine in the manner of text/template's: each state reads
// what it knows and gives the next.
type lexer struct {
	input  []rune
	at     int
	start  int
	line   int
	begin  int // where the line begins
	tokens []Token
	report func(Finding)
	curly  bool // a text in curly quotes has been told of
}

type state func(*lexer) state

// Scan cuts a text into tokens, the last of which is its end. What cannot be read is
// reported and passed over.
func Scan(text string, report func(Finding)) []Token {
	text = strings.TrimPrefix(strings.ReplaceAll(text, "\r\n", "\n"), "\ufeff")
	l := &lexer{input: []rune(text), line: 1, report: report}
	l.skipLong()
	for s := lexAny; s != nil; {
		s = s(l)
	}
	l.start = l.at
	l.emit(Line, Token{})
	l.emit(End, Token{})
	return l.tokens
}

func (l *lexer) peek() rune {
	if l.at >= len(l.input) {
		return eof
	}
	return l.input[l.at]
}

func (l *lexer) pos() Pos { return Pos{Line: l.line, Column: l.start - l.begin + 1} }

func (l *lexer) emit(k Kind, t Token) {
	t.Kind, t.Pos, t.Length, t.Raw = k, l.pos(), l.at-l.start, string(l.input[l.start:min(l.at, len(l.input))])
	l.tokens = append(l.tokens, t)
	l.start = l.at
}

func (l *lexer) fault(hint, format string, args ...any) {
	l.report(Finding{Pos: l.pos(), Length: max(1, l.at-l.start), Message: fmt.Sprintf(format, args...), Hint: hint})
	l.start = l.at
}

func lexAny(l *lexer) state {
	l.start = l.at
	switch r := l.peek(); {
	case r == eof:
		return nil
	case r == '\n':
		l.at++
		l.emit(Line, Token{})
		l.line++
		l.begin = l.at
		l.skipLong()
	case r == ' ' || r == '\t' || r == '\u00a0':
		l.at++
	case r == '/' && l.at+1 < len(l.input) && l.input[l.at+1] == '/':
		for l.peek() != '\n' && l.peek() != eof {
			l.at++
		}
	case r == '"' || r == '“' || r == '”' || r == '„':
		return lexString
	case r == '#' || r == '$':
		return lexName
	case r == '/' && !l.afterOperand():
		return lexPattern
	case isDigit(r):
		return lexNumber
	case isWordRune(r) && r != '-':
		return lexWord
	default:
		return lexSign
	}
	return lexAny
}

// skipLong passes over a line that is longer than anybody writes one.
func (l *lexer) skipLong() {
	end := l.at
	for end < len(l.input) && l.input[end] != '\n' {
		end++
	}
	if end-l.at <= maxLine {
		return
	}
	l.start = l.at
	l.report(Finding{Pos: l.pos(), Length: 1, Message: fmt.Sprintf(
		"this line is longer than the %d characters that one may have", maxLine), Hint: "take it apart with `let`"})
	l.at, l.start = end, end
}

// afterOperand tells a division from the start of a pattern.
func (l *lexer) afterOperand() bool {
	if len(l.tokens) == 0 {
		return false
	}
	switch t := l.tokens[len(l.tokens)-1]; t.Kind {
	case Number, Variable: // in `expect 3 /Sora.*/` it opens a pattern
		return !l.patternAfterCount()
	case ID, String, Percent, Size:
		return true
	default:
		return t.IsSign(")")
	}
}

// patternAfterCount reports whether what stands behind a count looks like a pattern: a blank
// before it, none after its first mark, and a second mark on the line.
func (l *lexer) patternAfterCount() bool {
	if l.at == 0 || l.at+1 >= len(l.input) || !unicode.IsSpace(l.input[l.at-1]) || unicode.IsSpace(l.input[l.at+1]) {
		return false
	}
	for i := l.at + 1; i < len(l.input) && l.input[i] != '\n'; i++ {
		switch l.input[i] {
		case '\\':
			i++
		case '/':
			return true
		}
	}
	return false
}

// closers are the marks that end a text, by the one that opens it. A text in plain quotes
// may have curly ones in it.
var closers = map[rune]string{'"': `"`, '“': "”“", '”': "”“", '„': "“”"}

// lexString reads a text. Curly quotes are read as plain ones, as they come from what
// changes quotes while one types.
func lexString(l *lexer) state {
	open := l.peek()
	l.at++
	from := l.at
	end := l.closing(closers[open])
	if end < 0 && open != '"' {
		end = l.closing(`"`)
	}
	if end < 0 {
		for l.peek() != '\n' && l.peek() != eof {
			l.at++
		}
		text := string(l.input[from:l.at])
		l.report(Finding{Pos: l.pos(), Length: max(1, l.at-l.start), Message: "this text in quotes has no end",
			Hint: `close it with "`})
		l.emit(String, Token{Text: text})
		return lexAny
	}
	l.at = end + 1
	if open != '"' && !l.curly {
		l.curly = true
		l.report(Finding{Pos: l.pos(), Length: l.at - l.start, Message: "curly quotes are read as plain ones",
			Hint: `write "…"`, Advice: true})
	}
	l.emit(String, Token{Text: string(l.input[from:end])})
	return lexAny
}

// closing finds the first of marks on the line that has no backslash before it, or -1.
func (l *lexer) closing(marks string) int {
	for i := l.at; i < len(l.input) && l.input[i] != '\n'; i++ {
		switch {
		case l.input[i] == '\\' && i+1 < len(l.input) && l.input[i+1] != '\n':
			i++
		case strings.ContainsRune(marks, l.input[i]):
			return i
		}
	}
	return -1
}

func lexName(l *lexer) state {
	mark := l.peek()
	l.at++
	from := l.at
	if mark == '$' && l.peek() == '{' {
		return lexBraced
	}
	for l.inName(mark) {
		l.at++
	}
	name := string(l.input[from:l.at])
	switch {
	case name == "":
		l.fault("", "a name is missing after %c", mark)
	case len(name) > 4*maxName || utf8.RuneCountInString(name) > maxName:
		l.fault("", "a name has at most %d characters", maxName)
	case mark == '#':
		l.emit(ID, Token{Text: name})
	default:
		l.emit(Variable, Token{Text: strings.ToLower(name)})
	}
	return lexAny
}

// inName reports whether the next character belongs to the name after a mark. A variable's name
// goes on after a hyphen only with a letter, so that $n-1 is a subtraction; after a dot, with
// what an account holds.
func (l *lexer) inName(mark rune) bool {
	r := l.peek()
	follows := rune(eof)
	if l.at+1 < len(l.input) {
		follows = l.input[l.at+1]
	}
	switch {
	case mark == '#':
		return isWordRune(r) || unicode.IsDigit(r) || r == '.' || r == ':'
	case r == '-' || r == '.':
		return l.at > l.start+1 && unicode.IsLetter(follows)
	}
	return isWordRune(r) || unicode.IsDigit(r)
}

// lexBraced passes over ${x}, which is how others write it.
func lexBraced(l *lexer) state {
	l.at++
	from := l.at
	for l.peek() != '}' && l.peek() != '\n' && l.peek() != eof && l.at-from <= maxName {
		l.at++
	}
	name := string(l.input[from:l.at])
	if l.peek() == '}' {
		l.at++
	}
	hint := "a variable is written $name"
	if IsName(name) {
		hint = "write $" + name
	}
	l.fault(hint, "braces have no place here")
	return lexAny
}

// IsName reports whether a value can be called so: letters, digits, _ and, before a letter, - .
func IsName(s string) bool {
	runes := []rune(s)
	for i, r := range runes {
		switch {
		case unicode.IsLetter(r) || r == '_':
		case i == 0:
			return false
		case unicode.IsDigit(r):
		case (r == '-' || r == '.') && i+1 < len(runes) && unicode.IsLetter(runes[i+1]):
		default:
			return false
		}
	}
	return s != ""
}

func lexPattern(l *lexer) state {
	l.at++
	from := l.at
	for l.peek() != '/' {
		if l.peek() == '\\' && l.at+1 < len(l.input) && l.input[l.at+1] != '\n' {
			l.at++
		}
		if l.peek() == '\n' || l.peek() == eof {
			l.fault("close it with /", "this pattern has no end")
			return lexAny
		}
		l.at++
	}
	text := strings.ReplaceAll(string(l.input[from:l.at]), `\/`, "/")
	l.at++
	l.emit(Pattern, Token{Text: text})
	return lexAny
}

func lexWord(l *lexer) state {
	for isWordRune(l.peek()) || unicode.IsDigit(l.peek()) {
		l.at++
	}
	l.emit(Word, Token{Text: strings.ToLower(string(l.input[l.start:l.at]))})
	return lexAny
}

var durationUnits = map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "m": time.Minute,
	"min": time.Minute, "h": time.Hour}

func lexNumber(l *lexer) state {
	for isDigit(l.peek()) {
		l.at++
	}
	if l.peek() == '.' && l.at+1 < len(l.input) && isDigit(l.input[l.at+1]) {
		l.at++
		for isDigit(l.peek()) {
			l.at++
		}
	}
	value, ok := new(big.Rat).SetString(string(l.input[l.start:l.at]))
	if !ok || l.at-l.start > maxLiteral {
		l.fault("", "this number is too long")
		return lexAny
	}
	if l.peek() == '%' {
		l.at++
		l.emit(Percent, Token{Number: value})
		return lexAny
	}
	from := l.at
	for unicode.IsLetter(l.peek()) {
		l.at++
	}
	unit := strings.ToLower(string(l.input[from:l.at]))
	switch d, isTime := durationUnits[unit]; {
	case unit == "":
		l.emit(Number, Token{Number: value})
	case sizeUnits[unit] > 0:
		l.emit(Size, Token{Number: value.Mul(value, new(big.Rat).SetInt64(sizeUnits[unit]))})
	case isTime:
		length := value.Mul(value, new(big.Rat).SetInt64(int64(d)))
		if length.Cmp(new(big.Rat).SetInt64(int64(24*time.Hour))) > 0 {
			l.fault("", "this is longer than a day")
			return lexAny
		}
		l.emit(Duration, Token{Time: time.Duration(new(big.Int).Quo(length.Num(), length.Denom()).Int64())})
	case unit == "st" || unit == "nd" || unit == "rd" || unit == "th":
		if n, whole := Whole(value); !whole || n < 1 || n > 10000 {
			l.fault("", "ordinals are whole and count from 1st")
		} else if want := OrdinalOf(n); fmt.Sprint(n)+unit != want {
			l.fault(fmt.Sprintf("write %s, or %d%s", want, nearestOrdinal(n, unit), unit), "no ordinal ends so: `%s`",
				string(l.input[l.start:l.at]))
		} else {
			l.emit(Ordinal, Token{Number: value})
		}
	default:
		l.fault("durations end in ms, s or m; sizes in kB, MB or GB; ordinals in st, nd, rd or th", "unknown unit `%s`",
			unit)
	}
	return lexAny
}

// sizeUnits are decimal, as the International System of Units has them.
var sizeUnits = map[string]int64{"kb": 1e3, "mb": 1e6, "gb": 1e9}

// maxLiteral bounds a number in a script, in characters.
const maxLiteral = 60

// ordinalEnd is what an ordinal ends in: 1st, 2nd, 3rd, 11th, 22nd.
func ordinalEnd(n int) string {
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			return "st"
		case 2:
			return "nd"
		case 3:
			return "rd"
		}
	}
	return "th"
}

// OrdinalOf writes a number as an ordinal.
func OrdinalOf(n int) string { return fmt.Sprint(n) + ordinalEnd(n) }

// nearestOrdinal is the first number from n on that an ordinal with this end has.
func nearestOrdinal(n int, end string) int {
	for ordinalEnd(n) != end {
		n++
	}
	return n
}

// Whole gives a number as an int, if it is one of at most a million.
func Whole(n *big.Rat) (int, bool) {
	if n == nil || !n.IsInt() || n.Num().BitLen() > 20 {
		return 0, false
	}
	return int(n.Num().Int64()), true
}

func lexSign(l *lexer) state {
	r := l.peek()
	l.at++
	two := string(r)
	if next := l.peek(); next == '=' || next == '<' || next == '>' {
		two += string(next)
	}
	switch two {
	case "<=", ">=", "!=":
		l.at++
		l.emit(Sign, Token{Text: two})
		return lexAny
	case "==", "=<", "=>", "<>":
		l.at++
		l.fault(map[string]string{"==": "one `=` compares", "=<": "write <=", "=>": "write >=", "<>": "write !="}[two],
			"unknown sign `%s`", two)
		return lexAny
	}
	text := string(r)
	switch text {
	case "≤":
		text = "<="
	case "≥":
		text = ">="
	case "≠":
		text = "!="
	case "×":
		text = "*"
	case "−":
		text = "-"
	}
	if strings.Contains(" = != < > <= >= + - * / ( ) , ", " "+text+" ") {
		l.emit(Sign, Token{Text: text})
		return lexAny
	}
	switch hint := ""; {
	case r == utf8.RuneError:
		l.fault("scripts are UTF-8", "this is not UTF-8 text")
	case text == "'" || text == "‘" || text == "’" || text == "`":
		for strings.ContainsRune("'‘’`", r) && l.peek() != '\n' && l.peek() != eof &&
			!strings.ContainsRune("'‘’`",
				l.peek()) {
			l.at++ // what stands in them is no word of the language
		}
		if l.peek() != '\n' && l.peek() != eof {
			l.at++
		}
		l.fault(`texts stand in double quotes: "…"`, "unknown sign `%s`", text)
	default:
		switch text {
		case "{", "}":
			hint = "braces stand in texts alone, around the name of a value: \"{island}\""
		case ";":
			hint = "a statement ends with its line"
		case "%":
			hint = "a percent sign touches its number: 50%"
		case "÷":
			hint = "write /"
		}
		l.fault(hint, "unknown sign `%s`", text)
	}
	return lexAny
}

func isWordRune(r rune) bool { return r == '_' || r == '-' || unicode.IsLetter(r) }

func isDigit(r rune) bool { return r >= '0' && r <= '9' }

// Bounds on a script's text.
const (
	MaxText = 1 << 20 // bytes
	maxLine = 4000    // characters
	maxName = 100     // characters of a name after # or $
)
