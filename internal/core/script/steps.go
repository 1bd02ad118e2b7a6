package script

import (
	"regexp"
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

// WordUsage is a word that a line may begin with, and how such lines are written.
type WordUsage struct{ Word, Usage string }

// Words are the words of the language, for what colours and completes scripts.
type Words struct {
	File   []WordUsage // lines outside of blocks
	Steps  []WordUsage // lines in blocks
	Roles  []string
	States []string
	Words  []string // all that mean something
}

// Language gives the words of the language, from what reads it.
func Language() Words {
	var out Words
	seen := map[string]bool{"end": true, "else": true, "each": true, "times": true}
	quoted := regexp.MustCompile(`"[^"]*"`)
	note := func(usage string) {
		usage = quoted.ReplaceAllString(usage, "")
		for _, w := range strings.FieldsFunc(usage, func(r rune) bool { return !(r >= 'a' && r <= 'z' || r == '-') }) {
			seen[w] = seen[w] || len(w) > 1 && w != "ms"
		}
	}
	for _, f := range fileForms {
		out.File = append(out.File, WordUsage{f.word, f.usage})
		note(f.usage)
	}
	for _, w := range stepWords() {
		if f, ok := forms[w]; ok {
			out.Steps = append(out.Steps, WordUsage{w, f.usage})
			note(f.usage)
		}
	}
	note("called near above below left right of in called within for count number text matching word secret xpath last")
	for r := range Roles {
		out.Roles = append(out.Roles, r)
	}
	slices.Sort(out.Roles)
	out.States = stateNames()
	for w := range seen {
		out.Words = append(out.Words, w)
	}
	slices.Sort(out.Words)
	return out
}
