package plain

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Some names the first few of a list, and how many more there are.
func Some(list []string, most int) string {
	if more := len(list) - most; more > 0 {
		list = append(slices.Clone(list[:most]), fmt.Sprintf("%d more", more))
	}
	if n := len(list); n > 1 {
		return strings.Join(list[:n-1], ", ") + " and " + list[n-1]
	}
	return strings.Join(list, "")
}

// Need says that these need something: "the plan nightly needs it", "the plan nightly and the suite Pay need it".
func Need(list []string) string {
	verb := "needs"
	if len(list) > 1 {
		verb = "need"
	}
	return Some(list, 5) + " " + verb + " it"
}

// Capital begins a sentence.
func Capital(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

// Either joins words of which one is meant: "android, ios or web".
func Either(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	last := len(words) - 1
	return strings.Join(words[:last], ", ") + " or " + words[last]
}
