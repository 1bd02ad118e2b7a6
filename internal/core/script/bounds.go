package script

import (
	"regexp/syntax"
)

// Bounds on a script, beside those of its text.
const (
	maxCases      = 5000
	maxSteps      = 50_000
	maxActions    = 5000 // of all files
	maxTags       = 50   // of a suite, and of a case
	maxTag        = 100  // characters
	maxTitle      = 200  // characters of a suite's or a case's name
	maxDepth      = 40   // of brackets, of elements in elements, and of blocks in blocks
	maxTerms      = 200  // of one sum or product
	maxTimes      = 1000
	maxFiles      = 100 // that a suite uses
	maxWords      = 30  // of an action's name
	maxRows       = 1000
	maxCalls      = 30 // of actions by actions, one in the other
	maxWordValues = 10
	maxRan        = 50_000 // steps that one case carries out
	maxFindings   = 1000
	maxHints      = 200 // findings after that come without suggestions
)

// deeper runs read one level deeper, up to maxDepth.
func (p *parser) deeper(read func()) {
	if p.depth++; p.depth > maxDepth {
		p.depth = 0
		p.fail(p.peek(), "take it apart with `let`", "this is nested more than %d deep", maxDepth)
	}
	read()
	p.depth--
}

func (p *parser) fewTerms(n int) {
	if n >= maxTerms {
		p.fail(p.peek(), "take it apart with `let`", "a sum or product has at most %d terms", maxTerms)
	}
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
