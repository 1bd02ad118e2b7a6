package screen

import (
	"errors"
	"slices"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"golang.org/x/text/number"
)

// numberRules is how a language writes numbers (CLDR, as golang.org/x/text has it).
type numberRules struct {
	language string
	decimals []rune
	groups   []rune
	last     int // digits of the last group
	others   int // digits of the groups before it
}

// kept are the rules of languages that have been asked for; bounded, since the name of
// a language comes from a device.
var kept struct {
	sync.Mutex
	rules map[string]numberRules
}

const maxKept = 200

func rulesOf(name string) numberRules {
	kept.Lock()
	defer kept.Unlock()
	if r, ok := kept.rules[name]; ok {
		return r
	}
	if kept.rules == nil || len(kept.rules) >= maxKept {
		kept.rules = map[string]numberRules{}
	}
	tag := language.Make(name)
	base, _ := tag.Base()
	r := numberRules{language: base.String()}
	r.learn(tag)
	own := slices.Clone(r.decimals)
	r.learn(language.Make(base.String())) // people write 1.234,50 in pt-PT too, where CLDR has a blank
	r.decimals = own
	r.groups = slices.DeleteFunc(r.groups, func(g rune) bool { return slices.Contains(own, g) })
	kept.rules[name] = r
	return r
}

// learn reads the signs out of a number that the package has written.
func (r *numberRules) learn(tag language.Tag) {
	text := []rune(strings.Map(dropFormat, message.NewPrinter(tag).Sprint(number.Decimal(123456789.5))))
	var marks []int
	for i, c := range text {
		if _, ok := digit(c); !ok {
			marks = append(marks, i)
		}
	}
	if len(marks) < 2 {
		r.decimals, r.last, r.others = append(r.decimals, '.'), 3, 3
		return
	}
	point := marks[len(marks)-1]
	r.decimals = append(r.decimals, text[point])
	if r.last == 0 {
		r.last, r.others = point-marks[len(marks)-2]-1, point-marks[len(marks)-2]-1
		if len(marks) > 2 {
			r.others = marks[len(marks)-2] - marks[len(marks)-3] - 1
		}
	}
	r.groups = append(r.groups, text[marks[0]])
}

// The signs that Arabic digits are written with, which are no others in any language (The Unicode
// Standard, 9.2; CLDR, numbering system arab).
const (
	arabicDecimal = '\u066b'
	arabicGroup   = '\u066c'
)

func (r numberRules) decimal(c rune) bool {
	return c == arabicDecimal || slices.Contains(r.decimals, c)
}

// group gives the mark that c groups by, 0 if it groups nothing: blanks that do not
// break are one mark, and so are straight and curved apostrophes (CLDR, lenient parsing).
func (r numberRules) group(c rune) rune {
	if c == arabicGroup {
		return c
	}
	for _, g := range r.groups {
		switch {
		case c == g, isFixedBlank(c) && isFixedBlank(g), isApostrophe(c) && isApostrophe(g):
			return g
		}
	}
	return 0
}

func isFixedBlank(c rune) bool {
	return c == '\u00a0' || c == '\u202f' || c == '\u2009' || c == '\u2007'
}

func isApostrophe(c rune) bool { return c == '\'' || c == '’' }

var errGroups = errors.New("not grouped as this language does")

// checkGroups refuses digits that stand in other groups than the language's.
func (r numberRules) checkGroups(groups []int, digits string) error {
	last := len(groups) - 1
	if last == 0 {
		return nil
	}
	if groups[last] != r.last || groups[0] > r.others || digits[0] == '0' {
		return errGroups
	}
	for _, n := range groups[1:last] {
		if n != r.others {
			return errGroups
		}
	}
	return nil
}

// RightToLeft reports whether a language (BCP 47) is written from right to left.
func RightToLeft(name string) bool {
	switch script, _ := language.Make(name).Script(); script.String() {
	case "Arab", "Hebr", "Thaa", "Syrc", "Nkoo", "Adlm", "Rohg":
		return true
	}
	return false
}

// isMonth reports whether a word is the name of a month in the reader's language, in
// full or shortened (CLDR, dates), for the languages that the product is tried in.
func (r *numberReader) isMonth(word string) bool {
	word = strings.TrimRight(word, ".")
	if word == "" {
		return false
	}
	list := months[r.rules.language]
	if r.rules.language == "en" || r.rules.language == "de" { // "may" is a month only where it is written large
		if first := []rune(word)[0]; !unicode.IsUpper(first) {
			return false
		}
	}
	return list[strings.ToLower(word)]
}

var months = map[string]map[string]bool{
	"en": setOf(`january february march april may june july august september october november december
		jan feb mar apr jun jul aug sep sept oct nov dec`),
	"de": setOf(`januar jänner februar märz april mai juni juli august september oktober november dezember
		jan feb mär apr jun jul aug sep sept okt nov dez`),
	"pt": setOf(`janeiro fevereiro março abril maio junho julho agosto setembro outubro novembro dezembro
		jan fev mar abr mai jun jul ago set out nov dez`),
	"fr": setOf(`janvier février mars avril mai juin juillet août septembre octobre novembre décembre
		janv févr avr juil sept oct nov déc`),
	"es": setOf(`enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre
		ene feb mar abr jun jul ago sept oct nov dic`),
	"it": setOf(`gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre
		gen feb mar apr mag giu lug ago set ott nov dic`),
	"nl": setOf(`januari februari maart april mei juni juli augustus september oktober november december
		jan feb mrt apr jun jul aug sep okt nov dec`),
}
