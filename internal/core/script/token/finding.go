package token

import (
	"fmt"
	"strings"

	"yamato/internal/core/near"
	"yamato/internal/core/plain"
)

// Finding is something that the check has to say about a place in a script.
// Faults keep the suite from running; advice does not.
type Finding struct {
	Pos     Pos    `json:"pos"`
	Length  int    `json:"length"`          // of the marked place, in characters
	Line    string `json:"line"`            // the line as written, or the part of it about the place
	Shift   int    `json:"shift,omitempty"` // characters of the line before that part
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`
	Advice  bool   `json:"advice,omitempty"`
}

// Faults counts the findings that keep a suite from running.
func Faults(findings []Finding) int {
	n := 0
	for _, f := range findings {
		if !f.Advice {
			n++
		}
	}
	return n
}

// Format writes f as file:line:column with the place marked below the line. A position
// that names a file of its own is told with that.
func (f Finding) Format(file string) string {
	kind := "fault"
	if f.Advice {
		kind = "advice"
	}
	if f.Pos.File != "" {
		file = f.Pos.File
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s:%d:%d: %s: %s", file, f.Pos.Line, f.Pos.Column, kind, f.Message)
	if f.Hint != "" {
		fmt.Fprintf(&b, "; %s", f.Hint)
	}
	runes := []rune(f.Line)
	before := max(0, min(f.Pos.Column-1-f.Shift, len(runes)))
	pad := strings.Map(func(r rune) rune {
		if r == '\t' {
			return '\t'
		}
		return ' '
	}, string(runes[:before]))
	fmt.Fprintf(&b, "\n    %s\n    %s%s\n", f.Line, pad, strings.Repeat("^", max(1, min(f.Length, len(runes)-before))))
	return b.String()
}

// Nearest is which of the known words was probably meant, "" for none.
func Nearest(word string, known []string) string { return near.Word(strings.ToLower(word), known) }

// Meant suggests the known word that is nearest to word, if one is near.
func Meant(word string, known []string) string {
	best := Nearest(word, known)
	if best == "" {
		return ""
	}
	return fmt.Sprintf("did you mean `%s`?", best)
}

// maxExcerpt is how much of a line a finding repeats, in characters, and maxWords
// bounds what it says.
const (
	maxExcerpt = 200
	maxWords   = 400
)

// Excerpt gives f with the part of the line about its place, and its words within bounds.
func (f Finding) Excerpt(lines []string) Finding {
	if f.Pos.Line >= 1 && f.Pos.Line <= len(lines) {
		f.Line, f.Shift = excerpt(strings.TrimPrefix(lines[f.Pos.Line-1], "\ufeff"), f.Pos.Column)
		f.Length = min(f.Length, maxExcerpt)
	}
	f.Message, f.Hint = plain.Clip(f.Message, maxWords), plain.Clip(f.Hint, maxWords)
	return f
}

// excerpt gives the part of a line about a column, and how many characters before it
// are left out.
func excerpt(line string, column int) (part string, shift int) {
	if len(line) <= maxExcerpt {
		return strings.ToValidUTF8(line, "\uFFFD"), 0
	}
	runes := []rune(line)
	if len(runes) > maxExcerpt {
		shift = max(0, min(column-1-maxExcerpt/2, len(runes)-maxExcerpt))
		runes = runes[shift : shift+maxExcerpt]
	}
	return string(runes), shift
}
