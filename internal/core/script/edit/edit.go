// Package edit answers what editors ask of a script that is being written: what may stand at a
// place, what stands there and where that comes from, and what changes when a name does. It reads
// scripts that have faults as far as they can be read, and changes nothing itself.
package edit

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/script"
	"yamato/internal/core/script/token"
)

// Document is a script as an editor has it, with what is known of its app.
type Document struct {
	Suite *script.Suite
	Lines []string
	Seen  []script.Seen // what screens of the app had on them
}

// Item is what may stand at a place.
type Item struct {
	Text   string // that goes in
	Kind   string // step, word, action, variable, role, id, text
	Detail string
	From   int // column, from 1, from which on it replaces what was typed
}

// Place is a span of one line.
type Place struct {
	script.Pos
	Length int
}

// Change replaces a span by a text.
type Change struct {
	Place
	Text string
}

// Complete gives what may stand at a column of a line, counted in characters from 1.
func (d Document) Complete(line, column int) []Item {
	before := d.before(line, column)
	words := strings.Fields(before)
	typed := ""
	if n := len(words); n > 0 && !strings.HasSuffix(before, " ") && !strings.HasSuffix(before, "\t") {
		typed, words = words[n-1], words[:n-1]
	}
	from := column - len([]rune(typed))
	switch {
	case strings.Count(before, `"`)%2 == 1:
		at := strings.LastIndex(before, `"`)
		return d.texts(before[at+1:], column-len([]rune(before[at+1:])), strings.LastIndex(before[at:], "{") > 0, line,
			column)
	case strings.HasPrefix(typed, "$"):
		return d.variables(line, from)
	case strings.HasPrefix(typed, "#"):
		return d.ids(from)
	case len(words) == 0:
		return d.beginnings(line, from)
	case words[0] == "do" || len(words) > 3 && words[0] == "let" && words[3] == "do":
		return d.actions(from)
	}
	return append(d.elements(words, from), d.ids(from)...)
}

func (d Document) before(line, column int) string {
	if line < 1 || line > len(d.Lines) {
		return ""
	}
	runes := []rune(d.Lines[line-1])
	return string(runes[:max(0, min(column-1, len(runes)))])
}

// inBlock tells whether a line stands between what opens a block and its end.
func (d Document) inBlock(line int) bool {
	depth := 0
	for _, l := range d.Lines[:min(line-1, len(d.Lines))] {
		words := strings.Fields(strings.ToLower(l))
		if len(words) == 0 {
			continue
		}
		switch {
		case words[0] == "end":
			depth = max(0, depth-1)
		case slices.Contains([]string{"case", "before", "after", "action", "if", "each"}, words[0]),
			len(words) > 1 && words[1] == "times":
			depth++
		}
	}
	return depth > 0
}

func (d Document) beginnings(line, from int) []Item {
	l := script.Language()
	list := l.File
	if d.inBlock(line) {
		list = append(slices.Clone(l.Steps), script.WordUsage{Word: "end", Usage: "closes the block"},
			script.WordUsage{Word: "else", Usage: "if … else … end"})
	}
	var out []Item
	for _, w := range list {
		out = append(out, Item{w.Word, "step", w.Usage, from})
	}
	return out
}

func (d Document) actions(from int) []Item {
	var out []Item
	for _, a := range d.Suite.Actions {
		detail := "in this file"
		if a.Pos.File != "" {
			detail = "in " + a.Pos.File
		}
		out = append(out, Item{a.Usage(), "action", detail, from})
	}
	return out
}

func (d Document) elements(words []string, from int) []Item {
	l := script.Language()
	var out []Item
	if last := words[len(words)-1]; last == "is" {
		for _, s := range l.States {
			out = append(out, Item{s, "word", "a state", from})
		}
		return out
	}
	for _, r := range l.Roles {
		out = append(out, Item{r, "role", "a WAI-ARIA role", from})
	}
	for _, w := range []string{"called", "in", "near", "above", "below", "left of", "right of", "shows", "contains",
		"matches", "is", "came up",
		"within", "for", "at least", "at most", "no", "number in", "text in", "count of", "word(", "secret", "xpath",
		"last"} {
		out = append(out, Item{w, "word", "", from})
	}
	return out
}

func (d Document) ids(from int) []Item {
	var out []Item
	seen := map[string]bool{}
	for _, s := range d.Seen {
		if s.ID != "" && !seen[s.ID] {
			seen[s.ID] = true
			out = append(out, Item{"#" + s.ID, "id", on(s), from})
		}
	}
	for _, l := range d.Suite.Locators() {
		if id, ok := strings.CutPrefix(l, "#"); ok && !strings.Contains(id, " ") && !seen[id] {
			seen[id] = true
			out = append(out, Item{l, "id", "in this suite", from})
		}
	}
	return out
}

func on(s script.Seen) string {
	out := s.Role
	if s.Text != "" {
		out += fmt.Sprintf(" %q", s.Text)
	}
	if s.Screen != "" {
		out += ", on " + s.Screen
	}
	return strings.TrimSpace(out)
}

func (d Document) texts(typed string, from int, inBraces bool, line, column int) []Item {
	if inBraces {
		at := strings.LastIndex(typed, "{")
		var out []Item
		for _, v := range d.variables(line, from+len([]rune(typed[:at+1]))) {
			v.Text = strings.TrimPrefix(v.Text, "$") + "}"
			out = append(out, v)
		}
		return out
	}
	var out []Item
	seen := map[string]bool{}
	for _, s := range d.Seen {
		if s.Text != "" && !seen[s.Text] {
			seen[s.Text] = true
			out = append(out, Item{strings.NewReplacer(`\`, `\\`, `"`, `\"`, "{", `\{`, "}", `\}`).Replace(s.Text),
				"text", on(s), from})
		}
	}
	return out
}

func (d Document) variables(line, from int) []Item {
	var out []Item
	seen := map[string]bool{}
	for _, v := range d.scope(line).declared() {
		if !seen[v.name] {
			seen[v.name] = true
			out = append(out, Item{"$" + v.name, "variable", "", from})
		}
	}
	return out
}

// Hover tells what stands at a place, in Markdown; "" where there is nothing to tell.
func (d Document) Hover(line, column int) string {
	if c := d.callAt(line, column); c != nil && c.Does() != nil {
		a := c.Does()
		where := fmt.Sprintf("line %d", a.Pos.Line)
		if a.Pos.File != "" {
			where = a.Pos.File + ", " + where
		}
		return fmt.Sprintf("`action %s`\n\n%s", a.Usage(), where)
	}
	word, _ := d.wordAt(line, column)
	if id, ok := strings.CutPrefix(word, "#"); ok {
		for _, s := range d.Seen {
			if s.ID == id {
				return fmt.Sprintf("`#%s` %s", id, on(s))
			}
		}
		return ""
	}
	l := script.Language()
	for _, w := range append(slices.Clone(l.Steps), l.File...) {
		if strings.EqualFold(w.Word, word) {
			return "`" + strings.ReplaceAll(w.Usage, " · ", "`\n\n`") + "`"
		}
	}
	return ""
}

// wordAt gives the word at a place, with its mark, and the column that it begins at.
func (d Document) wordAt(line, column int) (string, int) {
	if line < 1 || line > len(d.Lines) {
		return "", 0
	}
	for _, t := range token.Scan(d.Lines[line-1], func(script.Finding) {}) {
		if !t.EndsLine() && column >= t.Pos.Column && column <= t.Pos.Column+t.Length {
			return t.Raw, t.Pos.Column
		}
	}
	return "", 0
}

// callAt is the call that a place belongs to, by one of its words.
func (d Document) callAt(line, column int) (found *script.Call) {
	script.Inspect(d.Suite, func(n script.Node) bool {
		c, ok := n.(*script.Call)
		if !ok || c.Pos.File != "" || c.Pos.Line != line {
			return true
		}
		for i, at := range c.Spots {
			if c.Words[i] != "" && column >= at.Column && column <= at.Column+c.Lengths[i] {
				found = c
			}
		}
		return true
	})
	return found
}

// Definition is where what stands at a place comes from.
func (d Document) Definition(line, column int) (Place, bool) {
	if c := d.callAt(line, column); c != nil && c.Does() != nil {
		a := c.Does()
		return Place{a.Spots[0], len([]rune(a.Words[0]))}, true
	}
	for _, u := range d.Suite.Uses {
		if u.Pos.File == "" && u.Pos.Line == line && column >= u.Pos.Column && column <= u.Pos.Column+u.Length {
			return Place{script.Pos{File: u.File, Line: 1, Column: 1}, 0}, true
		}
	}
	if v, ok := d.variableAt(line, column); ok {
		for _, o := range d.scope(line).declared() {
			if o.name == v.name {
				return o.place, true
			}
		}
	}
	return Place{}, false
}
