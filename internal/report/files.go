package report

import (
	"strings"
	"yamato/internal/core/evidence"
)

// Extension is what the name of a file of that media type ends in, "" where unknown.
func Extension(mediaType string) string {
	k, _ := evidence.ByMediaType(mediaType)
	return k.Extension
}

// Plain keeps letters, digits and a few marks: what a device or a script named
// may go into a path.
func Plain(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r > 0x7f && r != 0xfffd:
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
	if r := []rune(s); len(r) > 80 {
		s = string(r[:80])
	}
	if s == "" {
		return "unnamed"
	}
	return s
}
