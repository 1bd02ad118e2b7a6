package script

import (
	"math/big"
	"strconv"
	"strings"
)

// maxBits bounds a number that is computed: what needs more is refused.
const maxBits = 4096

// shownDecimals is to how many decimals a number is written that has no end.
const shownDecimals = 12

// value is a text or an exact number.
type value struct {
	text   string
	number *big.Rat // nil for a text
}

func (v value) isNumber() bool { return v.number != nil }

// String writes a number as plain decimals: exactly, if it has an end.
func (v value) String() string {
	if !v.isNumber() {
		return v.text
	}
	if n, exact := v.number.FloatPrec(); exact && n <= 60 {
		return v.number.FloatString(n)
	}
	return strings.TrimRight(v.number.FloatString(shownDecimals), "0") + "…"
}

func (v value) quoted() string {
	if v.isNumber() {
		return v.String()
	}
	return strconv.Quote(clipText(v.text))
}

// compare reports whether a stands to b as sign says.
func compare(a *big.Rat, sign string, b *big.Rat) bool {
	c := a.Cmp(b)
	switch sign {
	case "=":
		return c == 0
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

// compute gives x sign y; it tells why there is none.
func compute(x *big.Rat, sign string, y *big.Rat) (*big.Rat, string) {
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
