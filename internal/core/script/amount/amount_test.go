package amount

import (
	"math/big"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func number(text string) *big.Rat {
	n, ok := new(big.Rat).SetString(text)
	if !ok {
		panic(text + " is no number")
	}
	return n
}

func TestNumbersAreWrittenExactlyWhereTheyEnd(t *testing.T) {
	for text, says := range map[string]string{"1/8": "0.125", "6.30": "6.3", "1/3": "0.333333333333…", "-2": "-2",
		"1e30": "1" + strings.Repeat("0", 30)} {
		require.Equal(t, says, Value{Number: number(text)}.String())
	}
	require.Equal(t, "as it is", Value{Text: "as it is"}.String())
	require.Equal(t, `"a \"word\""`, Value{Text: `a "word"`}.Quoted())
	require.Equal(t, "0.1", Value{Number: number("0.1")}.Quoted())
}

func TestWhatHasNoResultSaysWhy(t *testing.T) {
	_, why := Calculate(number("1"), "/", number("0"))
	require.Contains(t, why, "divides by zero")
	large := number("7")
	for why == "it divides by zero" { // it grows until it is refused, and never without end
		var next *big.Rat
		if next, why = Calculate(large, "*", large); why == "" {
			large, why = next, "it divides by zero"
		}
	}
	require.Contains(t, why, "more digits")
}

func TestComputingKeepsTheLawsOfNumbers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) *big.Rat {
			return big.NewRat(rapid.Int64Range(-1e6, 1e6).Draw(t, name), rapid.Int64Range(1, 1e6).Draw(t, name+"/"))
		}
		a, b := draw("a"), draw("b")
		sum, _ := Calculate(a, "+", b)
		back, _ := Calculate(sum, "-", b)
		require.True(t, Compare(back, "=", a))
		product, _ := Calculate(a, "*", b)
		if b.Sign() != 0 {
			quotient, why := Calculate(product, "/", b)
			require.Empty(t, why)
			require.True(t, Compare(quotient, "=", a))
		}
		require.Equal(t, Compare(a, "<", b), Compare(b, ">", a))
		require.Equal(t, Compare(a, "<=", b), !Compare(a, ">", b))
		require.False(t, Compare(a, "like", b), "what is no sign holds of nothing")
	})
}
