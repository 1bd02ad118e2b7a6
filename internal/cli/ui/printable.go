package ui

import (
	"bytes"
	"io"
	"unicode"
	"unicode/utf8"

	"yamato/internal/report"
)

// Printable writes text for people. Much of it comes from packages, apps and devices:
// what would move the cursor, set a title or turn the writing round on a terminal is
// replaced. Colours of our own pass, and no others.
type Printable struct{ To io.Writer }

func (p Printable) Write(b []byte) (int, error) {
	var out bytes.Buffer
	out.Grow(len(b))
	for rest := b; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		switch {
		case r == '\n' || r == '\t':
			out.WriteByte(rest[0])
		case r == '\x1b':
			if own, length := report.Reveal(rest); length > 0 {
				n = length
				out.Write(own)
			} else {
				out.WriteRune(utf8.RuneError)
			}
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
