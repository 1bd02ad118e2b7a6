package screen

import (
	"strconv"
	"strings"
)

// commaDecimal lists the base languages (BCP 47) that write decimals with a
// comma, of those the product knows; all others use a point (CLDR 46, numbers).
var commaDecimal = map[string]bool{
	"de": true, "pt": true, "fr": true, "es": true, "it": true, "nl": true,
	"sv": true, "da": true, "nb": true, "fi": true, "pl": true, "cs": true, "tr": true,
}

// Number reads the one number written in text as a person of that language
// would: "£1,234.50" in en-GB and "1.234,50 €" in de-DE are both 1234.5. It
// reports false where text holds no number, or several.
func Number(text, language string) (float64, bool) {
	base, _, _ := strings.Cut(strings.ToLower(language), "-")
	decimal, group := '.', ','
	if commaDecimal[base] {
		decimal, group = ',', '.'
	}
	runes := []rune(text)
	var found []string
	for i := 0; i < len(runes); {
		if !isDigit(runes[i]) {
			i++
			continue
		}
		sign := ""
		if i > 0 && (runes[i-1] == '-' || runes[i-1] == '\u2212') && (i == 1 || !isDigit(runes[i-2])) {
			sign = "-"
		}
		digits, next := scanNumber(runes, i, decimal, group)
		found = append(found, sign+digits)
		i = next
	}
	if len(found) != 1 {
		return 0, false
	}
	v, err := strconv.ParseFloat(found[0], 64)
	return v, err == nil
}

// scanNumber reads digits from i on, passing over group marks that stand
// between digits, and turns the first decimal mark into a point.
func scanNumber(runes []rune, i int, decimal, group rune) (string, int) {
	var b strings.Builder
	point := false
	for i < len(runes) {
		r := runes[i]
		followed := i+1 < len(runes) && isDigit(runes[i+1])
		switch {
		case isDigit(r):
			b.WriteRune(r)
		case r == decimal && followed && !point:
			b.WriteByte('.')
			point = true
		case (r == group || r == '\u00a0' || r == '\u202f' || r == '\'') && followed && !point:
		default:
			return b.String(), i
		}
		i++
	}
	return b.String(), i
}

func isDigit(r rune) bool { return r >= '0' && r <= '9' }
