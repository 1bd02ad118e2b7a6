package token

import "strings"

// Foreign says what is meant by a word that people bring along, "" where it is none.
func Foreign(word string) string { return foreign[word] }

// foreign says what is meant by words that people bring along.
var foreign = map[string]string{}

func init() {
	for words, hint := range map[string]string{
		"click touch push select": "to touch an element: tap E",
		"wait sleep delay": "steps wait by themselves, up to their patience; for longer: " +
			"expect E within 15s",
		"assert verify check ensure should see must": "what has to be so is written: expect …",
		"open launch run":                            "to bring the app to the front: start app",
		"enter input write":                          "what a field is to hold is written: set E to V",
		"fill":                                       "what a field is to hold is now written: set E to V",
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
