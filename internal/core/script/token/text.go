package token

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Lines cuts a script into its lines, without what ends them.
func Lines(text string) []string {
	return strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
}

// maxOdd is how many lines with characters that are no text are told of.
const maxOdd = 200

// Odd reports characters that are no text: damaged UTF-8, and controls, which would go
// into names and records unseen. It tells whether the file is no text at all; that is one
// finding, not a thousand.
func Odd(lines []string, report func(Finding)) (binary bool) {
	var found []Finding
	odd, all := 0, 0
	for i, line := range lines {
		column, told := 0, false
		for at, r := range line {
			column++
			all++
			damaged := r == utf8.RuneError && !strings.HasPrefix(line[at:], "\uFFFD")
			if !damaged && (!unicode.IsControl(r) || r == '\t' || r == '\r') {
				continue
			}
			if odd++; told || len(found) == maxOdd {
				continue
			}
			told = true
			f := Finding{Pos: Pos{Line: i + 1, Column: column}, Length: 1,
				Message: fmt.Sprintf("a script holds no control characters, such as %U", r), Hint: "take it out"}
			if damaged {
				f.Message, f.Hint = "this is not UTF-8 text", "scripts are UTF-8: save the file as that"
			}
			found = append(found, f)
		}
	}
	if odd > 20 && odd*20 > all {
		report(Finding{Pos: Pos{Line: 1, Column: 1}, Length: 1, Message: "this file is no text",
			Hint: "a suite is a text file in UTF-8, with lines such as case \"…\""})
		return true
	}
	for _, f := range found {
		report(f)
	}
	return false
}
