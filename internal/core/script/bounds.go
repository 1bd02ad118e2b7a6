package script

import (
	"fmt"
	"regexp/syntax"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Bounds on a script.
const (
	maxText     = 1 << 20 // bytes
	maxLine     = 4000    // characters
	maxCases    = 5000
	maxSteps    = 50_000
	maxTags     = 50  // of a suite, and of a case
	maxDepth    = 40  // of brackets, and of elements in elements
	maxTerms    = 200 // of one sum or product
	maxName     = 100 // characters of a name after # or $, and of a tag
	maxFindings = 1000
	maxHints    = 200 // findings after that come without suggestions
)

// unreadable reports characters that are no text: damaged UTF-8, and controls, which
// would go into names and records unseen.
func (p *parser) unreadable(text string) {
	for i, line := range p.lines {
		column := 0
		for at, r := range line {
			column++
			damaged := r == utf8.RuneError && !strings.HasPrefix(line[at:], "\uFFFD")
			if !damaged && (!unicode.IsControl(r) || r == '\t' || r == '\r') {
				continue
			}
			f := Finding{Pos: Pos{i + 1, column}, Length: 1, Message: fmt.Sprintf("a script holds no control characters, such as %U", r), Hint: "take it out"}
			if damaged {
				f.Message, f.Hint = "this is not UTF-8 text", "scripts are UTF-8: save the file as that"
			}
			p.report(f)
			break
		}
		if len(p.findings) >= maxHints {
			return
		}
	}
}

// maxWords bounds what a finding says, in characters.
const maxWords = 400

// maxExcerpt is how much of a line a finding repeats, in characters.
const maxExcerpt = 200

// excerpt gives the part of a line about a column, and how many characters before it
// are left out.
func excerpt(line string, column int) (part string, shift int) {
	if len(line) <= maxExcerpt {
		return strings.ToValidUTF8(line, "\uFFFD"), 0
	}
	runes := []rune(line)
	if len(runes) > maxExcerpt {
		shift = max(0, min(column-1-maxExcerpt/2, len(runes)-maxExcerpt))
		runes = runes[shift : shift+maxExcerpt]
	}
	return string(runes), shift
}

// deeper runs read one level deeper, up to maxDepth.
func (p *parser) deeper(read func()) {
	if p.depth++; p.depth > maxDepth {
		p.depth = 0
		p.fail(p.peek(), "take it apart with `let`", "this is nested more than %d deep", maxDepth)
	}
	read()
	p.depth--
}

// Bounds on patterns, in instructions of the machine that looks for them.
const (
	maxPattern  = 2000
	maxPatterns = 200_000
)

// patternSize is about how many instructions a pattern takes, reckoned before its
// repetitions are written out.
func patternSize(pattern string) (int, error) {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return 0, err
	}
	var size func(re *syntax.Regexp) int
	size = func(re *syntax.Regexp) int {
		n := 1 + len(re.Rune)/2
		for _, sub := range re.Sub {
			n += size(sub)
		}
		if re.Op == syntax.OpRepeat {
			n *= max(re.Min, re.Max, 1)
		}
		return min(n, 1<<30)
	}
	return size(re), nil
}

func (p *parser) fewTerms(n int) {
	if n >= maxTerms {
		p.fail(p.peek(), "take it apart with `let`", "a sum or product has at most %d terms", maxTerms)
	}
}
