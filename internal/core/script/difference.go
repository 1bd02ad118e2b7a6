package script

import (
	"slices"
	"unicode"
)

// Piece is a part of a difference between two texts.
type Piece struct {
	Text string `json:"text"`
	Of   string `json:"of"` // both, expected or actual
}

// Of which text a piece is.
const (
	OfBoth     = "both"
	OfExpected = "expected"
	OfActual   = "actual"
)

// maxDifference bounds the texts that are compared piece by piece, in words and signs.
const maxDifference = 400

// difference tells two texts apart: the longest common subsequence of their words, digits and
// signs stays (Wagner, Fischer 1974). It gives nil where the texts are too long, or have nothing
// in common.
func difference(expected, actual string) []Piece {
	a, b := pieces(expected), pieces(actual)
	if len(a) > maxDifference || len(b) > maxDifference || expected == actual {
		return nil
	}
	common := make([][]int, len(a)+1)
	for i := range common {
		common[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	var out []Piece
	add := func(text, of string) {
		if n := len(out); n > 0 && out[n-1].Of == of {
			out[n-1].Text += text
			return
		}
		out = append(out, Piece{text, of})
	}
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			add(a[i], OfBoth)
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && common[i+1][j] >= common[i][j+1]:
			add(a[i], OfExpected)
			i++
		default:
			add(b[j], OfActual)
			j++
		}
	}
	if !slices.ContainsFunc(out, func(p Piece) bool { return p.Of == OfBoth }) {
		return nil
	}
	return out
}

// pieces cuts a text into words, numbers and signs.
func pieces(text string) []string {
	const sign, word, number = 0, 1, 2
	var out []string
	before := sign
	for _, r := range text {
		kind := sign
		switch {
		case unicode.IsLetter(r) || unicode.IsMark(r):
			kind = word
		case unicode.IsDigit(r) || before == number && (r == '.' || r == ','):
			kind = number
		}
		if kind != sign && kind == before {
			out[len(out)-1] += string(r)
		} else {
			out = append(out, string(r))
		}
		before = kind
	}
	return out
}

// apartOf tells two values that have nothing in common.
func apartOf(expected, actual string) []Piece {
	return []Piece{{expected, OfExpected}, {actual, OfActual}}
}
