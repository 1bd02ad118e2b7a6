package document

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

type crew struct {
	Ship    string   `yaml:"ship"`
	Decks   int      `yaml:"decks"`
	Heated  bool     `yaml:"heated"`
	Quays   []string `yaml:"quays"`
	Members []struct {
		Name string `yaml:"name"`
	} `yaml:"members"`
}

func TestWhatIsWrongIsSaidInWordsWithItsLine(t *testing.T) {
	var c crew
	require.NoError(t, Read([]byte("ship: Tobi\ndecks: 3\nheated: true\nquays: [a]\nmembers:\n  - {name: Bo}\n"), &c))
	require.Equal(t, "Bo", c.Members[0].Name)
	for text, says := range map[string]string{
		"ship: Tobi\ndecks: many\n":        "line 2: a whole number is needed here, not a text\n",
		"heated: 3\n":                      "line 1: true or false is needed here, not a whole number",
		"ship: [1, 2]\n":                   "line 1: a text is needed here, not a list",
		"members:\n  name: Bo\n":           "line 2: a list is needed here, not a mapping",
		"quay: [a]\n":                      "line 1: there is no `quay`; did you mean `quays`?",
		"members:\n  - {nmae: Bo}\n":       "line 2: there is no `nmae`; did you mean `name`?",
		"weather: fair\n":                  "line 1: there is no `weather`\n",
		"ship: \"Tobi\n":                   "could not find end character of double-quoted text",
		"ship: a\nship: b\n":               "already defined",
		"just words":                       "a mapping (`name: value`)",
		"decks: 99999999999999999999999\n": "line 1: 99999999999999999999999 is too large a number",
	} {
		err := Read([]byte(text), &crew{})
		require.ErrorContains(t, err, says, text)
		require.NotContains(t, err.Error(), "Go ", text)
	}
}

func TestADocumentOfAnyShapeIsReadWithinBounds(t *testing.T) {
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for _, next := range []string{"ba", "cb", "dc", "ed", "fe", "gf", "hg"} {
		bomb += fmt.Sprintf("%c: &%c [%s]\n", next[0], next[0], strings.TrimSuffix(strings.Repeat("*"+next[1:]+",",
			9), ","))
	}
	for name, text := range map[string]string{
		"brackets": strings.Repeat("[", 100_000), "braces": strings.Repeat("{a: ", 20_000),
		"dashes": strings.Repeat("- ",
			50_000),
		"question marks": strings.Repeat("? ", 50_000), "aliases": bomb, "size": strings.Repeat("a: b\n", 100_000),
		"controls": "site: a\x00b", "damaged": "site: \xff",
		"indentation": strings.Repeat(" ", 5000) + "a: b",
	} {
		var into struct {
			Site string `yaml:"site"`
		}
		err := Read([]byte(text), &into)
		require.Error(t, err, name)
		require.Less(t, len(err.Error()), maxWords+10, name)
	}
}

// What looks like a number keeps the form in which it is written.
func TestATextIsWhatIsWritten(t *testing.T) {
	for written, want := range map[string]Text{"13.10": "13.10", "0x10": "0x10", "007": "007", "true": "true",
		`"1.0"`:   "1.0",
		"'it''s'": "it's", "100%  # of the usual": "100%"} {
		var into struct {
			Text Text   `yaml:"text"`
			List []Text `yaml:"list"`
		}
		require.NoError(t, Read([]byte("text: "+written+"\nlist:\n  - "+written+"\n  - x\n"), &into), written)
		require.Equal(t, want, into.Text, written)
		require.Equal(t, []Text{want, "x"}, into.List, written)
	}
	var into struct {
		Text Text `yaml:"text"`
	}
	require.ErrorContains(t, Read([]byte("text: [a]\n"), &into), "a text is needed here")
}

func TestWhatADocumentCostsGrowsWithItAndNotWithItsSquare(t *testing.T) {
	type list struct {
		Words []Text           `yaml:"words"`
		Maps  []map[string]int `yaml:"maps"`
	}
	reads := func(text string) (list, error) {
		var into list
		began := time.Now()
		err := Read([]byte(text), &into)
		require.Less(t, time.Since(began), 20*time.Second) // it was minutes
		return into, err
	}
	got, err := reads("words: [" + strings.Repeat("13.10, ", 30_000) + "x]\n")
	require.NoError(t, err)
	require.Len(t, got.Words, 30_001)
	require.Equal(t, Text("13.10"), got.Words[29_999])
	var keys strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&keys, "k%d: 1\n", i)
	}
	_, err = reads(keys.String())
	require.ErrorContains(t, err, "a mapping has at most 1000 keys")
	_, err = reads("words: {" + strings.ReplaceAll(keys.String(), "\n", ", ") + "}\n")
	require.ErrorContains(t, err, "a mapping has at most 1000 keys")
	got, err = reads("maps:\n" + strings.Repeat("  - a: 1\n    b: 2\n", 3000) + "words:\n  - {}\n")
	require.Error(t, err)
	require.NotContains(t, err.Error(), "keys", "many small ones are many")
	got, err = reads("maps:\n" + strings.Repeat("  - a: 1\n    b: 2\n", 3000))
	require.NoError(t, err)
	require.Len(t, got.Maps, 3000)
}

func TestATextMayBeAnAlias(t *testing.T) {
	var into struct {
		A Text   `yaml:"a"`
		B Text   `yaml:"b"`
		L []Text `yaml:"l"`
	}
	require.NoError(t, Read([]byte("a: &x 13.10\nb: *x\nl:\n  - *x\n  - !!str 7\n  - |-\n    two\n    lines\n"), &into))
	require.Equal(t, []Text{"13.10", "13.10"}, []Text{into.A, into.B})
	require.Equal(t, []Text{"13.10", "7", "two\nlines"}, into.L)
}
