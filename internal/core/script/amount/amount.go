// Package amount holds what scripts compute with: texts, and numbers that are exact.
package amount

import (
	"math/big"
	"regexp"
	"strconv"
	"strings"

	"yamato/internal/core/plain"
)

// maxBits bounds a number that is computed: what needs more is refused.
const maxBits = 4096

// shownDecimals is to how many decimals a number is written that has no end.
const shownDecimals = 12

// Value is a text or an exact number.
type Value struct {
	Text   string
	Number *big.Rat // nil for a text
}

// IsNumber tells whether it is one.
func (v Value) IsNumber() bool { return v.Number != nil }

// String writes a number as plain decimals: exactly, if it has an end.
func (v Value) String() string {
	if !v.IsNumber() {
		return v.Text
	}
	if n, exact := v.Number.FloatPrec(); exact && n <= 60 {
		return v.Number.FloatString(n)
	}
	return strings.TrimRight(v.Number.FloatString(shownDecimals), "0") + "…"
}

// Quoted writes it as a script would.
func (v Value) Quoted() string {
	if v.IsNumber() {
		return v.String()
	}
	return strconv.Quote(plain.Clip(v.Text, 60))
}

// Compare reports whether a stands to b as sign says.
func Compare(a *big.Rat, sign string, b *big.Rat) bool {
	c := a.Cmp(b)
	switch sign {
	case "=":
		return c == 0
	case "!=":
		return c != 0
	case "<":
		return c < 0
	case ">":
		return c > 0
	case "<=":
		return c <= 0
	case ">=":
		return c >= 0
	}
	return false
}

// Calculate gives x sign y; it tells why there is none.
func Calculate(x *big.Rat, sign string, y *big.Rat) (*big.Rat, string) {
	out := new(big.Rat)
	switch sign {
	case "+":
		out.Add(x, y)
	case "-":
		out.Sub(x, y)
	case "*":
		out.Mul(x, y)
	case "/":
		if y.Sign() == 0 {
			return nil, "it divides by zero"
		}
		out.Quo(x, y)
	}
	if out.Num().BitLen()+out.Denom().BitLen() > maxBits {
		return nil, "it is a number with more digits than can be computed with"
	}
	return out, ""
}

var decimal = regexp.MustCompile(`^-?\d{1,30}(\.\d{1,30})?%?$`)

// Parse reads a number as scripts write it: 12, -3.5, 15%.
func Parse(text string) (*big.Rat, bool) {
	if !decimal.MatchString(text) {
		return nil, false
	}
	return new(big.Rat).SetString(strings.TrimSuffix(text, "%"))
}
