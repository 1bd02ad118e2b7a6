package report

import (
	"strings"
	"unicode"
	"unicode/utf8"
	"yamato/internal/core/evidence"
)

// Extension is what the name of a file of that media type ends in, "" where unknown.
func Extension(mediaType string) string {
	k, _ := evidence.ByMediaType(mediaType)
	return k.Extension
}

// maxName bounds a name, in bytes: with what is added to it, it stays under the 255 of most file systems.
const maxName = 120

// Plain keeps letters, digits and a few marks: what a device or a script named
// may go into a path.
func Plain(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		case r > 0x7f && (unicode.IsLetter(r) || unicode.IsNumber(r) || unicode.IsMark(r)) && r != utf8.RuneError: // no marks of direction, no blanks
			return r
		case r == '.' || r == '-' || r == '_':
			return r
		}
		return '-'
	}, s)
	for strings.Contains(s, "--") {
		s = strings.ReplaceAll(s, "--", "-")
	}
	s = strings.Trim(s, "-.")
	for len(s) > maxName { // in bytes, as file systems count
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	s = strings.TrimRight(s, "-.")
	if s == "" {
		return "unnamed"
	}
	return s
}
