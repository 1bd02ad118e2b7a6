package report

import (
	"regexp"
	"strings"
	"unicode/utf8"
)

var escapes = regexp.MustCompile("\x1b" + sign + "\\[[0-9;]*m")

// visible is how many columns a text takes; colours take none.
func visible(s string) int { return utf8.RuneCountInString(escapes.ReplaceAllString(s, "")) }

// Fold cuts a text into lines of at most width characters, at blanks where it has them; 0
// leaves it whole. Blanks that it begins with are kept on its first line.
func Fold(text string, width int) []string {
	if width <= 0 || visible(text) <= width {
		return []string{text}
	}
	line, empty := "", true // empty: the line has no word yet
	var lines []string
	for n, m := range words.FindAllStringSubmatch(text, -1) {
		gap, word := m[1], m[2]
		if n == 0 {
			line, gap = gap, ""
		}
		for {
			if empty {
				gap = ""
			}
			room := width - visible(line) - len(gap)
			if visible(word) <= room {
				line, empty = line+gap+word, false
				break
			}
			if !empty {
				lines, line, empty = append(lines, line), "", true
				continue
			}
			cut := []rune(word) // a word longer than a line
			n := max(1, min(room, len(cut)))
			lines, line = append(lines, line+string(cut[:n])), ""
			word = string(cut[n:])
		}
	}
	return append(lines, line)
}

var words = regexp.MustCompile(`( *)([^ ]+)`)

// Indented folds a text whose further lines stand as far in as indent says.
func Indented(text string, indent, width int) []string {
	if width <= 0 || visible(text) <= width {
		return []string{text}
	}
	first := Fold(text, width)
	if len(first) == 1 {
		return first
	}
	rest := strings.Join(first[1:], " ")
	lines := []string{first[0]}
	for _, l := range Fold(rest, max(6, width-indent)) {
		lines = append(lines, strings.Repeat(" ", indent)+l)
	}
	return lines
}
