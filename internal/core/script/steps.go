package script

import (
	"slices"
	"strings"
)

// form is one kind of step: the word that it begins with, how it is written, and what
// reads the rest of its line.
type form struct {
	word  string
	usage string
	read  func(p *parser, s Step) Statement
}

// forms are the kinds of steps by their first word. Each family adds its own.
var forms = map[string]form{}

func add(list ...form) {
	for _, f := range list {
		forms[f.word] = f
	}
}

// stepWords are the words that a line in a block may begin with, in order.
func stepWords() []string {
	known := []string{"end"}
	for w, f := range forms {
		if strings.HasPrefix(f.usage, w) { // it is still called so
			known = append(known, w)
		}
	}
	slices.Sort(known)
	return known
}

// Usages tells how each kind of step is written, by its first word, in the order of the
// words.
func Usages() []string {
	out := []string{repeat.usage}
	for _, w := range stepWords() {
		if f, ok := forms[w]; ok {
			out = append(out, f.usage)
		}
	}
	return out
}

// planned are words of the language that this version does not carry out yet.
var planned = map[string]bool{}

func init() {
	for _, w := range strings.Fields(`use action do double hold clear choose swipe scroll drag pinch spread stop
		follow update rotate allow deny place tilt shake network battery deliver give note if else ask pause each needs`) {
		planned[w] = true
	}
}
