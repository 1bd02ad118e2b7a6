package token

import (
	"fmt"
	"strings"

	"yamato/internal/core/near"
	"yamato/internal/core/plain"
)

// Finding is something that the check has to say about a place in a script.
// Faults keep the suite from running; advice does not.
type Finding struct {
	Pos     Pos    `json:"pos"`
	Length  int    `json:"length"`          // of the marked place, in characters
	Line    string `json:"line"`            // the line as written, or the part of it about the place
	Shift   int    `json:"shift,omitempty"` // characters of the line before that part
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`
	Advice  bool   `json:"advice,omitempty"`
	Rule    Rule   `json:"rule,omitempty"` // what it is a finding of, whatever its words
}

// Rule is what a finding goes by: programs that keep findings know them again by it, so a name, once given, stays.
type Rule string

// The rules.
const (
	Signs        Rule = "signs"
	Form         Rule = "form"
	TooMany      Rule = "too-many-findings"
	NoName       Rule = "suite-without-name"
	NoCase       Rule = "suite-without-case"
	TwiceSuite   Rule = "suite-name-twice"
	TwiceCase    Rule = "case-name-twice"
	NoExpect     Rule = "case-without-expect"
	NoAction     Rule = "unknown-action"
	IdleAction   Rule = "action-not-called"
	GivesNothing Rule = "action-gives-nothing"
	NoValue      Rule = "unknown-name"
	LikelyID     Rule = "text-like-an-id"
	Amiss        Rule = "step-amiss"
	NoBuild      Rule = "unknown-build"
	NeverSeen    Rule = "element-never-seen"
	SeenOther    Rule = "element-seen-otherwise"
	NoText       Rule = "unknown-text"
	NotKept      Rule = "not-in-project"
	NoAbility    Rule = "ability-missing"
	AsBefore     Rule = "written-as-before"
)

// Rules gives what each is a finding of, in the order in which they are described.
var Rules = []struct {
	Rule  Rule
	Words string
}{
	{Signs, "What cannot be read as words, texts and numbers."},
	{Form, "A line or block that is not written as one is."},
	{TooMany, "There are more findings than are listed."},
	{NoName, "A suite has no name."},
	{NoCase, "A suite has no case."},
	{TwiceSuite, "Two suites have one name."},
	{TwiceCase, "Two cases of a suite have one name."},
	{NoExpect, "A case expects nothing: only a crash can fail it."},
	{NoAction, "An action is called that there is none of."},
	{IdleAction, "An action is called by nothing."},
	{GivesNothing, "A value is taken of an action that gives none back."},
	{NoValue, "A value is used that nothing has given."},
	{LikelyID, "What reads as an id is looked for as a text."},
	{Amiss, "A step does otherwise than it reads."},
	{NoBuild, "The app has no such build."},
	{NeverSeen, "An element that no screen of the app has ever had."},
	{SeenOther, "An element that a person may see otherwise than the page says."},
	{NoText, "The build has no such text, or lacks it in a language."},
	{NotKept, "The project has no such secret or account."},
	{AsBefore, "A line is written as it was before; `yamato suite format --write` mends it."},
	{NoAbility, "Devices that are wished for cannot do a step."},
}

// Faults counts the findings that keep a suite from running.
func Faults(findings []Finding) int {
	n := 0
	for _, f := range findings {
		if !f.Advice {
			n++
		}
	}
	return n
}

// Format writes f as file:line:column with the place marked below the line. A position
// that names a file of its own is told with that.
func (f Finding) Format(file string) string {
	kind := "fault"
	if f.Advice {
		kind = "advice"
	}
	if f.Pos.File != "" {
		file = f.Pos.File
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s:%d:%d: %s: %s", file, f.Pos.Line, f.Pos.Column, kind, f.Message)
	if f.Hint != "" {
		fmt.Fprintf(&b, "; %s", f.Hint)
	}
	runes := []rune(f.Line)
	before := max(0, min(f.Pos.Column-1-f.Shift, len(runes)))
	pad := strings.Map(func(r rune) rune {
		if r == '\t' {
			return '\t'
		}
		return ' '
	}, string(runes[:before]))
	fmt.Fprintf(&b, "\n    %s\n    %s%s\n", f.Line, pad, strings.Repeat("^", max(1, min(f.Length, len(runes)-before))))
	return b.String()
}

// Nearest is which of the known words was probably meant, "" for none.
func Nearest(word string, known []string) string { return near.Word(strings.ToLower(word), known) }

// Meant suggests the known word that is nearest to word, if one is near.
func Meant(word string, known []string) string {
	best := Nearest(word, known)
	if best == "" {
		return ""
	}
	return fmt.Sprintf("did you mean `%s`?", best)
}

// maxExcerpt is how much of a line a finding repeats, in characters, and maxWords
// bounds what it says.
const (
	maxExcerpt = 200
	maxWords   = 400
)

// Excerpt gives f with the part of the line about its place, and its words within bounds.
func (f Finding) Excerpt(lines []string) Finding {
	if f.Pos.Line >= 1 && f.Pos.Line <= len(lines) {
		f.Line, f.Shift = excerpt(strings.TrimPrefix(lines[f.Pos.Line-1], "\ufeff"), f.Pos.Column)
		f.Length = min(f.Length, maxExcerpt)
	}
	f.Message, f.Hint = plain.Clip(f.Message, maxWords), plain.Clip(f.Hint, maxWords)
	return f
}

// excerpt gives the part of a line about a column, and how many characters before it
// are left out.
func excerpt(line string, column int) (part string, shift int) {
	if len(line) <= maxExcerpt {
		return strings.ToValidUTF8(line, "\uFFFD"), 0
	}
	runes := []rune(line)
	if len(runes) > maxExcerpt {
		shift = max(0, min(column-1-maxExcerpt/2, len(runes)-maxExcerpt))
		runes = runes[shift : shift+maxExcerpt]
	}
	return string(runes), shift
}
