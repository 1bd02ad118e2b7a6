// Package near tells how far words are from each other, and which was probably meant.
package near

// Word gives the known word that is nearest to word, "" where none is one or two slips
// away.
func Word(word string, known []string) string {
	best, at := "", 3
	for _, k := range known {
		if d := Distance(word, k); d < at && d < max(2, len(word)) {
			best, at = k, d
		}
	}
	return best
}

// Distance is the number of single-character edits and swaps of neighbours
// between a and b (optimal string alignment; Damerau 1964, Levenshtein 1966).
// Inputs over 200 characters count by their first 200.
func Distance(a, b string) int {
	x, y := clip([]rune(a)), clip([]rune(b))
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}

func clip(r []rune) []rune {
	if len(r) > 200 {
		return r[:200]
	}
	return r
}
