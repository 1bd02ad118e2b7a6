package ui

import (
	"bytes"
	"io"
	"regexp"
	"unicode"
	"unicode/utf8"
)

// Printable writes text for people. Much of it comes from packages, apps and devices:
// what would move the cursor, set a title or turn the writing round on a terminal is
// replaced. Colours pass.
type Printable struct{ To io.Writer }

var colour = regexp.MustCompile(`^\x1b\[[0-9;]{0,20}m`)

func (p Printable) Write(b []byte) (int, error) {
	var out bytes.Buffer
	out.Grow(len(b))
	for rest := b; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		switch {
		case r == '\n' || r == '\t':
			out.WriteByte(rest[0])
		case r == '\x1b' && colour.Match(rest):
			n = len(colour.Find(rest))
			out.Write(rest[:n])
		case unicode.IsControl(r) || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069:
			out.WriteRune(utf8.RuneError)
		default:
			out.Write(rest[:n])
		}
		rest = rest[n:]
	}
	if _, err := p.To.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(b), nil
}
