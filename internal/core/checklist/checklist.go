// Package checklist reads lists of things for a person to look at by hand: Markdown's headings and task lists
// (GitHub Flavored Markdown, 5.3), and nothing else of it. What lies between them is for people.
package checklist

import (
	"fmt"
	"strings"

	"yamato/internal/core/plain"
)

// List is a checklist.
type List struct {
	Title string
	Items []Item
}

// Item is one thing to look at.
type Item struct {
	Group string // the heading that it stands under, "" for none
	Text  string
	Line  int
}

// Name tells an item from the others of its list.
func (i Item) Name() string {
	if i.Group == "" {
		return i.Text
	}
	return i.Group + ": " + i.Text
}

// Bounds of a checklist.
const (
	MaxSize  = 256 << 10 // bytes
	MaxItems = 500
	maxText  = 400 // bytes of an item, or of a heading
)

// Fault is why a text is no checklist.
type Fault struct {
	Line int
	Why  string
	Hint string
}

func (f *Fault) Error() string {
	if f.Line == 0 {
		return f.Why
	}
	return fmt.Sprintf("line %d: %s", f.Line, f.Why)
}

// Read reads a checklist. Its error is a *Fault.
func Read(text string) (List, error) {
	var l List
	if len(text) > MaxSize {
		return l, &Fault{Why: fmt.Sprintf("a checklist has at most %d kB", MaxSize>>10), Hint: "part it in several"}
	}
	group := ""
	seen := map[string]int{}
	for n, line := range strings.Split(plain.Text(text, MaxSize), "\n") {
		line = strings.TrimSpace(line)
		switch heading, item := headingOf(line), itemOf(line); {
		case len(heading) > maxText || len(item) > maxText:
			return l, &Fault{n + 1, fmt.Sprintf("it is longer than %d bytes", maxText),
				"say it in fewer words; what explains it may stand below"}
		case heading != "" && l.Title == "" && strings.HasPrefix(line, "# "):
			l.Title = heading
		case heading != "":
			group = heading
		case item != "":
			i := Item{group, item, n + 1}
			if first, twice := seen[i.Name()]; twice {
				return l, &Fault{n + 1, fmt.Sprintf("%q stands on line %d already", item, first),
					"give each thing words of its own"}
			}
			seen[i.Name()] = n + 1
			if l.Items = append(l.Items, i); len(l.Items) > MaxItems {
				return l, &Fault{n + 1, fmt.Sprintf("a checklist has at most %d things", MaxItems),
					"part it in several"}
			}
		}
	}
	switch {
	case l.Title == "":
		return l, &Fault{Why: "it has no title", Hint: "begin with one: # Before each release"}
	case len(l.Items) == 0:
		return l, &Fault{Why: "it has nothing to look at",
			Hint: "write each thing as a task: - [ ] The total is under the fares"}
	}
	return l, nil
}

// headingOf gives the words of a heading, "" where a line is none.
func headingOf(line string) string {
	words := strings.TrimLeft(line, "#")
	if n := len(line) - len(words); n < 1 || n > 6 || !strings.HasPrefix(words, " ") {
		return ""
	}
	return strings.Join(strings.Fields(strings.TrimRight(words, "# ")), " ")
}

// itemOf gives the words of a task, ticked or not, "" where a line is none.
func itemOf(line string) string {
	if len(line) < 2 || !strings.ContainsRune("-*+", rune(line[0])) || line[1] != ' ' {
		return ""
	}
	rest := strings.TrimSpace(line[1:])
	for _, box := range []string{"[ ]", "[x]", "[X]"} {
		if words, ok := strings.CutPrefix(rest, box); ok {
			return strings.Join(strings.Fields(words), " ")
		}
	}
	return ""
}
