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

// foreign says what is meant by words that people bring along.
var foreign = map[string]string{}

func init() {
	for words, hint := range map[string]string{
		"click touch push select": "to touch an element: tap E",
		"wait sleep delay": "steps wait by themselves, up to their patience; for longer: " +
			"expect E within 15s",
		"assert verify check ensure should see must": "what has to be so is written: expect …",
		"open launch run":                            "to bring the app to the front: start app",
		"enter input write set":                      "what a field is to hold is written: put V in E",
		"fill":                                       "what a field is to hold is now written: put V in E",
		"screenshot snapshot capture photo shot":     "to keep a picture: picture as \"…\"",
		"var const def define store remember":        "to name a value: let x = number in E",
		"repeat loop for while":                      "to do it again: 3 times … end",
		"then and when given":                        "a step begins with what is done: tap, put, type, expect …",
		"import include require load":                "files beside the suite cannot be used in this version",
		"quit exit close kill":                       "the app cannot be stopped by a step in this version",
		"setup before":                               "what comes before each case stands in: before each … end",
		"back home":                                  "to press a key of the device: press back",
		"test it scenario spec describe feature":     "a test is written: case \"…\" … end",
		"teardown after cleanup":                     "each case starts from a fresh app; nothing has to be tidied up",
		"goto navigate":                              "to get somewhere: tap what leads there",
		"log print echo say":                         "what a step did is in its report",
		"click-on tap-on press-on doubletap longtap": "to touch an element: tap E",
	} {
		for _, w := range strings.Fields(words) {
			foreign[w] = hint
		}
	}
}
