package script

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf16"
)

// What is to be hidden wears many dresses: what an app puts into an address, a form, a document or a log it encodes.

// longestPattern is of how many signs of a value one pattern is made.
const longestPattern = 150

// dresses gives patterns that find a value however its signs are written, each in its own way, capitals or not.
func dresses(value string) (out []*regexp.Regexp) {
	signs := []rune(strings.Join(strings.FieldsFunc(value, unicode.IsSpace), " "))
	for len(signs) > 0 {
		n := min(len(signs), longestPattern)
		if rest := len(signs) - n; rest > 0 && rest < MinSecret {
			n -= MinSecret
		}
		var b strings.Builder
		b.WriteString("(?i)")
		for _, r := range signs[:n] {
			b.WriteString(dressesOf(r))
		}
		out = append(out, regexp.MustCompile(b.String())) // of quoted signs and digits alone
		signs = signs[n:]
	}
	return out
}

// named are signs that HTML has names for (HTML 13.5), of those that its writers use them for.
var named = map[rune]string{'&': "amp", '<': "lt", '>': "gt", '"': "quot", '\'': "apos", '\u00a0': "nbsp"}

// dressesOf is a pattern of all ways to write one sign.
func dressesOf(r rune) string {
	if r == ' ' {
		return `(?:[\s\x{a0}]|\+|%(?:25)*(?:20|2b|0[9ad])|&(?:amp;)*(?:nbsp|#0*(?:32|160)|#x0*(?:20|a0));|\\+(?:[nrt]|u00(?:20|a0)))+`
	}
	var ways []string         // what is longer comes first: an ampersand by itself is the beginning of its name
	var bytes strings.Builder // RFC 3986, 2.1; once more where what was encoded is encoded
	for _, b := range []byte(string(r)) {
		fmt.Fprintf(&bytes, "%%(?:25)*%02x", b)
	}
	ways = append(ways, bytes.String())
	units := ""
	for _, u := range utf16.Encode([]rune{r}) { // RFC 8259, 7
		units += fmt.Sprintf(`\\+u%04x`, u)
	}
	ways = append(ways, units, fmt.Sprintf("&(?:amp;)*#0*%d;", r), fmt.Sprintf("&(?:amp;)*#x0*%x;", r))
	if r == '"' || r == '/' || r == '\'' || r == '\\' {
		ways = append(ways, `\\+`+regexp.QuoteMeta(string(r)))
	}
	if name := named[r]; name != "" {
		ways = append(ways, "&(?:amp;)*"+name+";")
	}
	return "(?:" + strings.Join(append(ways, regexp.QuoteMeta(string(r))), "|") + ")"
}

// leastEncoded is the least length of a piece of base64 that is looked for.
const leastEncoded = 6

// inBase64 gives what base64 (RFC 4648, 4 and 5) makes of a value wherever in a text it stands, without the signs at
// both ends that its neighbours have a part in; and its bytes in hexadecimal.
func inBase64(value string) (out []string) {
	for before := range 3 {
		text := append(make([]byte, before), value...)
		for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			encoded := e.EncodeToString(text)
			first, last := (before*8+5)/6, len(text)*8/6
			if last-first >= leastEncoded {
				out = append(out, encoded[first:last])
			}
		}
	}
	if len(value) >= leastEncoded {
		out = append(out, hex.EncodeToString([]byte(value)), strings.ToUpper(hex.EncodeToString([]byte(value))))
	}
	return out
}
