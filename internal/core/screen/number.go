package screen

import (
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/currency"
)

// maxDigits bounds the digits of a number that is read.
const maxDigits = 60

// maxNumberText bounds the text, in bytes, that a number is looked for in.
const maxNumberText = 2000

// What keeps a text from being one number.
var (
	ErrNoNumber = errors.New("it holds no number")
	ErrSeveral  = errors.New("it holds several numbers")
)

// Number reads the one number written in text as a person of that language (BCP 47)
// would: "£1,234.50" in en-GB and "1.234,50 €" in de-DE are both 1234.5. Signs of
// grouping, decimals and minus are CLDR's; a currency, a unit and words may stand
// beside it; the value of "50 %" is 50. The value is exact.
//
// It never guesses. A text with several numbers, a date, a part of a name such as
// "B-12", wrong groups ("1,50" in en-GB), a shortened one ("1.2k") and what is more
// or about something ("99+", "~5") are refused with the reason.
func Number(text, language string) (*big.Rat, error) {
	return readNumber(text, language, false)
}

// BareNumber is like Number, and refuses a text that holds anything beside the number.
func BareNumber(text, language string) (*big.Rat, error) {
	return readNumber(text, language, true)
}

func readNumber(text, language string, bare bool) (*big.Rat, error) {
	if len(text) > maxNumberText {
		return nil, fmt.Errorf("it holds %d bytes of text", len(text))
	}
	r := numberReader{text: []rune(strings.Map(dropFormat, text)), rules: rulesOf(language)}
	at := slices.IndexFunc(r.text, isNumeral)
	if at < 0 {
		return nil, ErrNoNumber
	}
	value, from, to, err := r.scan(at)
	if err != nil {
		return nil, err
	}
	for i := to; i < len(r.text); i++ {
		if exponent := strings.ContainsRune("²³", r.text[i]) && unicode.IsLetter(r.text[i-1]); isNumeral(r.text[i]) &&
			!exponent {
			return nil, ErrSeveral
		}
	}
	before, after := r.text[:from], r.text[to:]
	negative, before, err := r.before(before, string(r.text[from:to]))
	if err != nil {
		return nil, err
	}
	if err := r.after(before, after, string(r.text[from:to])); err != nil {
		return nil, err
	}
	if accounting := r.accounting(before, after); accounting != 0 {
		if accounting < 0 {
			return nil, errors.New("a number in brackets alone may be below zero, or a count")
		}
		negative = true
	}
	if signs := strings.TrimSpace(string(r.text[:from])); bare && (strings.TrimLeftFunc(signs, isSign) != "" ||
		strings.TrimSpace(string(after)) != "") {
		return nil, errors.New("it holds more than the number")
	}
	if negative {
		value.Neg(value)
	}
	return value, nil
}

// dropFormat takes away what nobody sees: marks of direction, joiners, and the
// selectors of a character's looks.
func dropFormat(r rune) rune {
	if unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Variation_Selector, r) {
		return -1
	}
	return r
}

// isNumeral reports whether r is part of some number: a digit of any script, a
// fraction, a raised or circled figure.
func isNumeral(r rune) bool { return unicode.IsNumber(r) }

// digit gives the value of a decimal digit of any script. Unicode keeps those of one
// script together, from zero on (The Unicode Standard, 4.6).
func digit(r rune) (int, bool) {
	if r < utf8.RuneSelf {
		return int(r - '0'), r >= '0' && r <= '9'
	}
	if !unicode.IsDigit(r) {
		return 0, false
	}
	for _, t := range unicode.Nd.R16 {
		if lo, hi := rune(t.Lo), rune(t.Hi); r >= lo && r <= hi {
			return int(r-lo) % 10, true
		}
	}
	for _, t := range unicode.Nd.R32 {
		if lo, hi := rune(t.Lo), rune(t.Hi); r >= lo && r <= hi {
			return int(r-lo) % 10, true
		}
	}
	return 0, false
}

// fractions are the vulgar fractions of Unicode that are written as one character.
var fractions = map[rune][2]int64{
	'½': {1, 2}, '⅓': {1, 3}, '⅔': {2, 3}, '¼': {1, 4}, '¾': {3, 4}, '⅕': {1, 5}, '⅖': {2, 5},
	'⅗': {3, 5}, '⅘': {4, 5},
	'⅙': {1, 6}, '⅚': {5, 6}, '⅐': {1, 7}, '⅛': {1, 8}, '⅜': {3, 8}, '⅝': {5, 8}, '⅞': {7, 8},
	'⅑': {1, 9}, '⅒': {1, 10},
}

// numberReader reads one number of a text.
type numberReader struct {
	text  []rune
	rules numberRules
}

func (r *numberReader) at(i int) rune {
	if i < 0 || i >= len(r.text) {
		return 0
	}
	return r.text[i]
}

func (r *numberReader) digitAt(i int) bool {
	_, ok := digit(r.at(i))
	return ok
}

// scan reads the digits from at on, with groups, decimals and a fraction, and gives
// the value and what it covers.
func (r *numberReader) scan(at int) (value *big.Rat, from, to int, err error) {
	if f, ok := fractions[r.text[at]]; ok {
		return big.NewRat(f[0], f[1]), at, at + 1, nil
	}
	if !r.digitAt(at) {
		return nil, 0, 0, fmt.Errorf("%q is no plain number", r.text[at])
	}
	var whole, decimals strings.Builder
	from, to = at, at
	if r.rules.decimal(r.at(at-1)) && !isWord(r.at(at-2)) { // ".5"
		from = at - 1
		whole.WriteByte('0')
	} else {
		groups := []int{0}
		var mark rune
		for to < len(r.text) {
			if d, ok := digit(r.text[to]); ok {
				whole.WriteByte(byte('0' + d))
				groups[len(groups)-1]++
			} else if g := r.rules.group(r.text[to]); g != 0 && r.digitAt(to+1) && (mark == 0 || mark == g) {
				mark, groups = g, append(groups, 0)
			} else {
				break
			}
			to++
		}
		if err := r.rules.checkGroups(groups, whole.String()); err != nil {
			return nil, 0, 0, fmt.Errorf("%q is %w", string(r.text[from:to]), err)
		}
	}
	if to == at || r.rules.decimal(r.at(to)) && r.digitAt(to+1) {
		if to != at {
			to++
		}
		for ; r.digitAt(to); to++ {
			d, _ := digit(r.text[to])
			decimals.WriteByte(byte('0' + d))
		}
	}
	if whole.Len()+decimals.Len() > maxDigits {
		return nil, 0, 0, fmt.Errorf("it has more than %d digits", maxDigits)
	}
	value, _ = new(big.Rat).SetString(whole.String() + "." + decimals.String() + "0")
	to = r.tail(value, to, decimals.Len() > 0)
	return value, from, to, nil
}

// tail passes over what may end a number: a fraction, which counts, or the dash that
// stands for no cents ("12,– €").
func (r *numberReader) tail(value *big.Rat, to int, decimals bool) int {
	if decimals {
		return to
	}
	next := to
	if unicode.IsSpace(r.at(next)) {
		next++
	}
	if f, ok := fractions[r.at(next)]; ok {
		value.Add(value, big.NewRat(f[0], f[1]))
		return next + 1
	}
	if r.rules.decimal(r.at(to)) && isDash(r.at(to+1)) {
		for to++; isDash(r.at(to)); to++ {
		}
	}
	return to
}

// before judges what stands before a number, and gives what is left of it once its
// sign and currency are taken away.
func (r *numberReader) before(text []rune, number string) (negative bool, rest []rune, err error) {
	rest = text
	signed := false
	for range 2 { // a sign, a currency and a sign: only one of the signs
		if cut := len(rest) - 1; cut >= 0 && !signed && isSign(rest[cut]) {
			if prior := trimCurrency(rest[:cut]); cut > 0 && isWord(rest[cut-1]) && len(prior) == cut {
				return false, nil, fmt.Errorf("%s belongs to %q", number, lastWord(rest)+number)
			}
			negative, signed = rest[cut] != '+', true
			rest = rest[:cut]
		}
		rest = trimCurrency(rest)
	}
	if last := len(rest) - 1; last >= 0 && unspaced(rest[last]) && !strings.ContainsRune(scaleSigns, rest[last]) {
		return negative, rest, nil // a word of a script that puts no blank before a number: 合計120円
	}
	if len(rest) > 0 && isWord(rest[len(rest)-1]) {
		return false, nil, fmt.Errorf("%s belongs to %q", number, lastWord(rest)+number)
	}
	bare := strings.TrimRightFunc(string(rest), unicode.IsSpace)
	last, _ := utf8.DecodeLastRuneInString(bare)
	switch {
	case bare == "":
	case signed && (isSign(last) || last == '/' || last == '='), strings.HasSuffix(bare, ">="),
		strings.HasSuffix(bare, "<="):
		return false, nil, errors.New("what stands before it is no plain sign")
	case signed:
	case strings.ContainsRune("<>≤≥~≈±∼≅", last):
		return false, nil, fmt.Errorf("%c before it tells that it is not exact", last)
	case len(bare) < len(string(rest)) && strings.ContainsRune("-−", last):
		return false, nil, fmt.Errorf("%c apart from it may be its sign, or a dash", last)
	case r.rules.decimal(last) && len(bare) == len(string(rest)) && last != '.':
		return false, nil, fmt.Errorf("%c before it may begin its decimals", last)
	case r.rules.group(last) != 0 && len(bare) == len(string(rest)) && !unicode.IsSpace(last) && !isWord(prior(bare)):
		return false, nil, fmt.Errorf("%c before it groups nothing", last)
	case (last == '.' || last == ',') && len(bare) == len(string(rest)) && !isWord(prior(bare)):
		return false, nil, fmt.Errorf("%c before it begins no decimals in this language", last)
	}
	if r.isMonth(lastWord([]rune(bare))) {
		return false, nil, errors.New("it is a date")
	}
	return negative, rest, nil
}

// prior is the last but one character of s.
func prior(s string) rune {
	_, size := utf8.DecodeLastRuneInString(s)
	r, _ := utf8.DecodeLastRuneInString(s[:len(s)-size])
	return r
}

// after judges what stands behind a number.
func (r *numberReader) after(before, text []rune, number string) error {
	if len(text) == 0 {
		return nil
	}
	switch first := text[0]; {
	case first == '+':
		return errors.New("it is a number and more")
	case isDash(first) && len(text) > 1 && isWord(text[1]):
		return fmt.Errorf("%s belongs to %q", number, number+string(first)+firstWord(text[1:]))
	case isSign(first):
		return fmt.Errorf("%c behind it may be its sign", first)
	case isWord(first):
		switch word := firstWord(text); {
		case strings.ContainsRune(scaleSigns, first):
			return fmt.Errorf("%q behind it makes it another number", first)
		case first == '月' || first == '월' && r.rules.language == "ko":
			return errors.New("it is a date")
		case unspaced(first): // a counter, a unit or a word: 2点, 3時間, 5개
		case !units[word] && !unitsOf[r.rules.language][word] && !isCurrency(word):
			return fmt.Errorf("%s belongs to %q", number, number+word)
		}
	}
	word := firstWord([]rune(strings.TrimLeftFunc(string(text), func(c rune) bool {
		return unicode.IsSpace(c) || c == '.'
	})))
	if scales[strings.ToLower(word)] || word == "M" {
		return fmt.Errorf("%q behind it shortens it", word)
	}
	if r.isMonth(word) {
		return errors.New("it is a date")
	}
	return nil
}

// accounting tells of a number in brackets: 1 where it is an amount below zero, as
// books have it (CLDR's accounting formats), -1 where it may be a count as well.
func (r *numberReader) accounting(before, after []rune) int {
	left, right := strings.TrimSpace(string(before)), strings.TrimSpace(string(after))
	if left != "(" || !strings.HasSuffix(right, ")") {
		return 0
	}
	inside := strings.TrimSpace(strings.TrimSuffix(right, ")"))
	if isCurrency(inside) || inside == "" && slices.ContainsFunc(r.text, func(c rune) bool {
		return unicode.Is(unicode.Sc, c)
	}) {
		return 1
	}
	if inside != "" {
		return 0
	}
	return -1
}

// trimCurrency takes a currency and the blanks about it from the end of a text.
func trimCurrency(text []rune) []rune {
	end := len(text)
	for end > 0 && unicode.IsSpace(text[end-1]) {
		end--
	}
	from := end
	for from > 0 && unicode.Is(unicode.Sc, text[from-1]) {
		from--
	}
	letters := from
	for letters > 0 && unicode.IsLetter(text[letters-1]) {
		letters--
	}
	switch word := string(text[letters:from]); {
	case from < end && len(word) <= 3: // "R$", "US$"
		from = letters
	case from < end: // "Total€5": a word, and a currency
	case isCurrency(word) && (letters == 0 || !isWord(text[letters-1])):
		from = letters
	default:
		return text
	}
	return text[:from]
}

// isCurrency reports whether s is a currency's sign or its code (ISO 4217).
func isCurrency(s string) bool {
	if r, size := utf8.DecodeRuneInString(s); s != "" && size == len(s) && unicode.Is(unicode.Sc, r) {
		return true
	}
	if len(s) != 3 || s != strings.ToUpper(s) {
		return writtenCurrencies[s]
	}
	_, err := currency.ParseISO(s)
	return err == nil
}

func isWord(r rune) bool { return unicode.IsLetter(r) || r == '_' || unicode.IsMark(r) }

func isDash(r rune) bool { return unicode.Is(unicode.Pd, r) || r == '−' }

// isSign takes all that people and formats write for a minus (CLDR, lenient parsing of
// signs) and plus. A dash counts where it touches the number.
func isSign(r rune) bool { return isDash(r) || strings.ContainsRune("+⁻₋➖", r) }

func lastWord(text []rune) string {
	from := len(text)
	for from > 0 && (isWord(text[from-1]) || isDash(text[from-1])) {
		from--
	}
	return strings.TrimLeftFunc(string(text[from:]), isDash)
}

func firstWord(text []rune) string {
	to := 0
	for to < len(text) && isWord(text[to]) {
		to++
	}
	return string(text[:to])
}

// unspaced reports whether r is of a script that is written without blanks between words, or that joins
// counters to numbers (Unicode Standard Annex 14, classes ID and SA).
func unspaced(r rune) bool {
	return unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Hangul, unicode.Thai, unicode.Lao,
		unicode.Khmer, unicode.Myanmar)
}

// scaleSigns make another number of the one that they stand beside (CLDR, compact formats of ja, zh and
// ko; numerals of the spelled-out kind).
const scaleSigns = "十百千万萬億亿兆京〇一二三四五六七八九십백천만억조"

// writtenCurrencies are written out beside amounts, and are no codes (CLDR, narrow and variant symbols).
var writtenCurrencies = setOf(`kr kr. zł Kč Ft lei лв лв. руб руб. р р. грн грн. ден дин din KM Rs Rs. Rp RM TL Lt Ls
	Fr Fr. đ сом сум сўм ман драм лари`)

// unitsOf are units and counters as a language writes them on to a number (CLDR 44, units, narrow and
// short), beside those that are the same everywhere.
var unitsOf = map[string]map[string]bool{
	"de": setOf(`Std Min Sek Tg Wo Mon J Pkt Stk Pers Pl Pf Gl`),
	"fr": setOf(`j sem an ans pers pl pt pts o ko Mo Go To`),
	"es": setOf(`d sem a pers uds ud`), "pt": setOf(`sem un pess`), "it": setOf(`g sett pz pers`),
	"nl": setOf(`u wk st`),
	"sv": setOf(`tim sek st dygn v mån`), "nb": setOf(`t sek stk d uke`), "no": setOf(`t sek stk d uke`),
	"da": setOf(`t sek stk dage`), "fi": setOf(`t pv vk kk kpl hlö`), "pl": setOf(`godz sek szt dni os`),
	"cs": setOf(`hod ks dní os`), "sk": setOf(`hod ks dní os`), "hu": setOf(`ó p mp db fő`),
	"ro": setOf(`oră ore buc zile`),
	"tr": setOf(`sa dk sn gün adet kişi`), "vi": setOf(`giờ phút giây ngày`),
	"ru": setOf(`км м см мм кг г мг т л мл ч мин с сек дн д шт чел`),
	"uk": setOf(`км м см мм кг г мг т л мл год хв с дн шт ос`),
	"bg": setOf(`км м см мм кг г л ч мин с дн бр`), "el": setOf(`χλμ μ εκ κιλά ώ λ δ τεμ`),
	"he": setOf(`קמ מ קג ג ש ד`),
	"ar": setOf(`كم م سم مم كغ غ ل س د ث ي`), "fa": setOf(`کم م کیلومتر متر گرم تومان ریال ساعت دقیقه ثانیه`),
	"hi": setOf(`किमी मी सेमी किग्रा ग्रा घं मि से दि रु`),
}

// units may touch the number that they belong to.
var units = setOf(`g kg mg t m km cm mm ft in mi l ml dl s ms h min hr hrs sec d p px dp pt kB KB MB GB TB kbit Mbit
	kW kWh mAh Hz kHz MHz GHz C F mph kmh bpm kcal Uhr x`)

// scales behind a number make it another one (CLDR's compact formats of the languages
// that the product is tried in).
var scales = setOf(`k bn tsd mio mrd mil mi mln mld million millionen milliarden thousand billion trillion tausend
	milhão milhões mil mille millón millones miljoen`)

func setOf(words string) map[string]bool {
	set := map[string]bool{}
	for _, w := range strings.Fields(words) {
		set[w] = true
	}
	return set
}
