package script

import (
	"fmt"
	"maps"
	"slices"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// Unmatched gives advice on every locator of a suite, read from text, that has never
// matched anything in an app: an expectation that it is absent passes for ever, and any
// other step that names it is an error.
func (s *Suite) Unmatched(text string, known func(locator string) bool) []Finding {
	p := &parser{lines: token.Lines(text)}
	told := map[string]bool{}
	mayLack := false
	Inspect(s, func(n Node) bool {
		if st, ok := n.(Statement); ok {
			a, ok := st.(absent)
			mayLack = ok && a.absence()
		}
		e, ok := n.(*Element)
		if !ok || told[e.Text] || known(e.Text) {
			return true
		}
		told[e.Text] = true
		hint := "is it misspelt? a step that needs it ends as an error"
		if mayLack {
			hint = "is it misspelt? that it is not there passes for ever"
		}
		p.report(Finding{Pos: e.Pos, Length: e.Length, Message: "nothing has ever matched " + e.Text + " in this app",
			Hint: hint, Advice: true})
		return true
	})
	return p.findings
}

// check looks at what was read as a whole.
func (p *parser) check() {
	start := Pos{Line: 1, Column: 1}
	if !p.named {
		p.report(Finding{Pos: start, Length: 1, Message: "the suite has no name",
			Hint: `begin the file with suite "…"`})
	}
	if len(p.suite.Cases) == 0 && p.failed == 0 {
		p.report(Finding{Pos: start, Length: 1, Message: "the suite has no case", Hint: `add case "…" … end`})
	}
	given := map[string]bool{}
	if p.suite.Before != nil {
		p.variables(given, p.suite.Before)
	}
	names := map[string]Pos{}
	for _, c := range p.suite.Cases {
		if first, ok := names[screen.Fold(c.Name)]; ok && c.Name != "" {
			p.report(Finding{Pos: c.Pos, Length: 4,
				Message: fmt.Sprintf("a case with this name stands on line %d already",
					first.Line), Hint: "give each case a name of its own"})
		} else {
			names[screen.Fold(c.Name)] = c.Pos
		}
		p.variables(maps.Clone(given), c.Body)
		if !p.broken[c] && !expects(p.suite, c) {
			p.report(Finding{Pos: c.Pos, Length: 4, Message: "this case expects nothing, so only a crash can fail it",
				Hint: "add an `expect`", Advice: true})
		}
	}
}

func expects(s *Suite, c *Case) (does bool) {
	for _, b := range s.bodies(c) {
		Inspect(b, func(n Node) bool {
			_, ok := n.(expecting)
			does = does || ok
			return !does
		})
	}
	return does
}

// variables reports names that are used before they have a value. It adds those that get
// one to given.
func (p *parser) variables(given map[string]bool, b *Block) {
	told := map[string]bool{}
	use := func(at Pos, name string, length int) {
		if given[name] || told[name] || p.attempted[name] || len(p.findings) >= maxFindings {
			return
		}
		told[name] = true
		hint := ""
		if len(p.findings) < maxHints {
			hint = token.Meant(name, slices.Sorted(maps.Keys(given)))
		}
		if hint == "" {
			hint = "give it a value before: let " + name + " = …"
		}
		p.report(Finding{Pos: at, Length: length, Message: fmt.Sprintf("nothing is called `%s` here", name),
			Hint: hint})
	}
	for _, st := range b.Steps {
		Inspect(st, func(n Node) bool {
			switch n := n.(type) {
			case *Block:
				p.variables(given, n)
				return false
			case *Variable:
				use(n.Pos, n.Name, len([]rune(n.Name))+1)
			case *Template:
				for _, part := range n.Parts {
					if part.Variable != "" {
						use(part.Pos, part.Variable, len([]rune(part.Variable))+2)
					}
				}
			}
			return true
		})
		if l, ok := st.(naming); ok {
			given[l.names()] = true
		}
	}
}
