package script

import (
	"fmt"
	"math/big"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Pos is a place in a script, counted from 1; columns count characters.
type Pos struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

type kind int

const (
	kindEnd kind = iota // end of the text
	kindLine
	kindWord
	kindString
	kindNumber
	kindOrdinal
	kindDuration
	kindID
	kindVariable
	kindPattern
	kindSign // = < > <= >= + - * / ( ) ,
)

var kindNames = map[kind]string{
	kindEnd: "the end of the file", kindLine: "the end of the line", kindWord: "a word", kindString: "a text in quotes",
	kindNumber: "a number", kindOrdinal: "an ordinal", kindDuration: "a duration", kindID: "an id", kindVariable: "a variable",
	kindPattern: "a pattern", kindSign: "a sign",
}

type token struct {
	kind   kind
	pos    Pos
	length int    // in characters
	text   string // words in lower case; strings without quotes; ids and variables without their mark
	number *big.Rat
	time   time.Duration
}

func (t token) is(word string) bool { return t.kind == kindWord && t.text == word }
func (t token) sign(s string) bool  { return t.kind == kindSign && t.text == s }

func (t token) String() string {
	switch t.kind {
	case kindWord, kindSign:
		return "`" + t.text + "`"
	case kindString:
		return fmt.Sprintf("%q", t.text)
	case kindID:
		return "#" + t.text
	case kindVariable:
		return "$" + t.text
	}
	return kindNames[t.kind]
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
	tokens []token
	report func(Finding)
}

type state func(*lexer) state

func lex(text string, report func(Finding)) []token {
	text = strings.TrimPrefix(strings.ReplaceAll(text, "\r\n", "\n"), "\ufeff")
	l := &lexer{input: []rune(text), line: 1, report: report}
	l.skipLong()
	for s := lexAny; s != nil; {
		s = s(l)
	}
	l.start = l.at
	l.emit(kindLine, token{})
	l.emit(kindEnd, token{})
	return l.tokens
}

func (l *lexer) peek() rune {
	if l.at >= len(l.input) {
		return eof
	}
	return l.input[l.at]
}

func (l *lexer) pos() Pos { return Pos{l.line, l.start - l.begin + 1} }

func (l *lexer) emit(k kind, t token) {
	t.kind, t.pos, t.length = k, l.pos(), l.at-l.start
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
		l.emit(kindLine, token{})
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
	l.report(Finding{Pos: l.pos(), Length: 1, Message: fmt.Sprintf("this line is longer than the %d characters that one may have", maxLine), Hint: "take it apart with `let`"})
	l.at, l.start = end, end
}

// afterOperand tells a division from the start of a pattern.
func (l *lexer) afterOperand() bool {
	if len(l.tokens) == 0 {
		return false
	}
	switch t := l.tokens[len(l.tokens)-1]; t.kind {
	case kindNumber, kindVariable, kindID, kindString:
		return true
	default:
		return t.sign(")")
	}
}

func lexString(l *lexer) state {
	l.at++
	var b strings.Builder
	for {
		switch r := l.peek(); r {
		case '"', '“', '”':
			l.at++
			l.emit(kindString, token{text: b.String()})
			return lexAny
		case '\n', eof:
			l.fault(`close it with "`, "this text in quotes has no end")
			l.emit(kindString, token{text: b.String()})
			return lexAny
		case '\\':
			l.at++
			if e := l.peek(); e == '"' || e == '\\' || e == '{' || e == '}' {
				b.WriteRune('\\')
				b.WriteRune(e)
				l.at++
			} else if e == 'n' {
				b.WriteByte('\n')
				l.at++
			} else {
				b.WriteRune('\\')
				b.WriteRune('\\')
			}
		default:
			b.WriteRune(r)
			l.at++
		}
	}
}

func lexName(l *lexer) state {
	mark := l.peek()
	l.at++
	from := l.at
	for isWordRune(l.peek()) || unicode.IsDigit(l.peek()) || l.peek() == '.' || l.peek() == ':' {
		l.at++
	}
	name := string(l.input[from:l.at])
	switch {
	case name == "":
		l.fault("", "a name is missing after %c", mark)
	case len(name) > 4*maxName || utf8.RuneCountInString(name) > maxName:
		l.fault("", "a name has at most %d characters", maxName)
	case mark == '#':
		l.emit(kindID, token{text: name})
	default:
		l.emit(kindVariable, token{text: name})
	}
	return lexAny
}

func lexPattern(l *lexer) state {
	l.at++
	from := l.at
	for l.peek() != '/' {
		if l.peek() == '\n' || l.peek() == eof {
			l.fault("close it with /", "this pattern has no end")
			return lexAny
		}
		if l.peek() == '\\' {
			l.at++
		}
		l.at++
	}
	text := strings.ReplaceAll(string(l.input[from:min(l.at, len(l.input))]), `\/`, "/")
	l.at++
	l.emit(kindPattern, token{text: text})
	return lexAny
}

func lexWord(l *lexer) state {
	for isWordRune(l.peek()) || unicode.IsDigit(l.peek()) {
		l.at++
	}
	l.emit(kindWord, token{text: strings.ToLower(string(l.input[l.start:l.at]))})
	return lexAny
}

var durationUnits = map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "min": time.Minute, "h": time.Hour}

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
	from := l.at
	for unicode.IsLetter(l.peek()) {
		l.at++
	}
	unit := strings.ToLower(string(l.input[from:l.at]))
	switch d, isTime := durationUnits[unit]; {
	case unit == "":
		l.emit(kindNumber, token{number: value})
	case isTime:
		length := value.Mul(value, new(big.Rat).SetInt64(int64(d)))
		if length.Cmp(new(big.Rat).SetInt64(int64(24*time.Hour))) > 0 {
			l.fault("", "this is longer than a day")
			return lexAny
		}
		l.emit(kindDuration, token{time: time.Duration(new(big.Int).Quo(length.Num(), length.Denom()).Int64())})
	case unit == "st" || unit == "nd" || unit == "rd" || unit == "th":
		if n, whole := wholeNumber(value); !whole || n < 1 || n > 10000 {
			l.fault("", "ordinals are whole and count from 1st")
		} else {
			l.emit(kindOrdinal, token{number: value})
		}
	default:
		l.fault("durations end in ms, s or m; ordinals in st, nd, rd or th", "unknown unit `%s`", unit)
	}
	return lexAny
}

// maxLiteral bounds a number in a script, in characters.
const maxLiteral = 60

// wholeNumber gives a number as an int, if it is one of at most a million.
func wholeNumber(n *big.Rat) (int, bool) {
	if n == nil || !n.IsInt() || n.Num().BitLen() > 20 {
		return 0, false
	}
	return int(n.Num().Int64()), true
}

func lexSign(l *lexer) state {
	r := l.peek()
	l.at++
	text := string(r)
	if (r == '<' || r == '>') && l.peek() == '=' {
		l.at++
		text += "="
	}
	switch text {
	case "≤":
		text = "<="
	case "≥":
		text = ">="
	case "×":
		text = "*"
	}
	if !strings.Contains(" = < > <= >= + - * / ( ) , ", " "+text+" ") {
		hint := ""
		if text == "'" || text == "‘" || text == "’" {
			hint = `texts stand in double quotes: "…"`
		}
		if r == utf8.RuneError {
			l.fault("scripts are UTF-8", "this is not UTF-8 text")
		} else {
			l.fault(hint, "unknown sign %q", text)
		}
		return lexAny
	}
	l.emit(kindSign, token{text: text})
	return lexAny
}

func isWordRune(r rune) bool { return r == '_' || r == '-' || unicode.IsLetter(r) }

func isDigit(r rune) bool { return r >= '0' && r <= '9' }
