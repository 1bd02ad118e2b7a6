package script

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"yamato/internal/core/near"
	"yamato/internal/core/screen"
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

// Format writes f as file:line:column with the place marked below the line.
func (f Finding) Format(file string) string {
	sort := "fault"
	if f.Advice {
		sort = "advice"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s:%d:%d: %s: %s", file, f.Pos.Line, f.Pos.Column, sort, f.Message)
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

// meant suggests the known word that is nearest to word, if one is near.
func meant(word string, known []string) string {
	best := near.Word(word, known)
	if best == "" {
		return ""
	}
	return fmt.Sprintf("did you mean `%s`?", best)
}

// Unmatched gives advice on every locator of a suite, read from text, that has never
// matched anything in an app: an expectation that it is absent passes for ever, and any
// other step that names it is an error.
func (s *Suite) Unmatched(text string, known func(locator string) bool) []Finding {
	p := &parser{lines: strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")}
	told := map[string]bool{}
	bodies := [][]Statement{s.BeforeEach}
	for _, c := range s.Cases {
		bodies = append(bodies, c.Body)
	}
	for _, body := range bodies {
		for _, st := range body {
			elements(st, func(e Element) {
				if told[e.Text] || known(e.Text) {
					return
				}
				told[e.Text] = true
				hint := "is it misspelt? a step that needs it ends as an error"
				if absence(st) {
					hint = "is it misspelt? that it is not there passes for ever"
				}
				p.report(Finding{Pos: e.Pos, Length: e.Length, Message: "nothing has ever matched " + e.Text + " in this app", Hint: hint, Advice: true})
			})
		}
	}
	return p.findings
}

// absence reports whether a step is content with an element that is not there.
func absence(st Statement) bool {
	switch s := st.(type) {
	case *ExpectShown:
		return s.No
	case *ExpectCount:
		return s.Compare == "<=" || s.Count == 0
	}
	return false
}

// check looks at what was read as a whole.
func (p *parser) check() {
	if !p.named {
		p.report(Finding{Pos: Pos{1, 1}, Length: 1, Message: "the suite has no name", Hint: `begin the file with suite "…"`})
	}
	if len(p.suite.Cases) == 0 {
		p.report(Finding{Pos: Pos{1, 1}, Length: 1, Message: "the suite has no case", Hint: `add case "…" … end`})
	}
	p.variables(nil, p.suite.BeforeEach)
	names := map[string]Pos{}
	for i := range p.suite.Cases {
		c := &p.suite.Cases[i]
		if first, ok := names[screen.Fold(c.Name)]; ok {
			p.report(Finding{Pos: c.Pos, Length: 4, Message: fmt.Sprintf("a case with this name stands on line %d already", first.Line), Hint: "give each case a name of its own"})
		}
		names[screen.Fold(c.Name)] = c.Pos
		p.variables(p.suite.BeforeEach, c.Body)
		if !expects(p.suite.BeforeEach) && !expects(c.Body) {
			p.report(Finding{Pos: c.Pos, Length: 4, Message: "this case expects nothing, so only a crash can fail it", Hint: "add an `expect`", Advice: true})
		}
	}
}

func expects(body []Statement) bool {
	for _, st := range body {
		switch st.(type) {
		case *ExpectShown, *ExpectShows, *ExpectCount, *ExpectNumber:
			return true
		}
	}
	return false
}

// variables reports names that are used before they have a value.
func (p *parser) variables(before, body []Statement) {
	known := map[string]bool{}
	for _, st := range before {
		if l, ok := st.(*Let); ok {
			known[l.Name] = true
		}
	}
	told := map[string]bool{}
	use := func(pos Pos, name string, length int) {
		if known[name] || told[name] || len(p.findings) >= maxFindings {
			return
		}
		told[name] = true
		hint := ""
		if len(p.findings) < maxHints {
			hint = meant(name, slices.Sorted(maps.Keys(known)))
		}
		if hint == "" {
			hint = "give it a value before: let " + name + " = …"
		}
		p.report(Finding{Pos: pos, Length: length, Message: fmt.Sprintf("nothing is called `%s` here", name), Hint: hint})
	}
	for _, st := range body {
		statementVariables(st, use)
		if l, ok := st.(*Let); ok {
			known[l.Name] = true
		}
	}
}

func statementVariables(st Statement, use func(Pos, string, int)) {
	template := func(t *Template) {
		for _, part := range t.Parts {
			if part.Variable != "" {
				use(t.Pos, part.Variable, len(t.source())+2)
			}
		}
	}
	elements(st, func(e Element) {
		for p := &e; p != nil; p = p.In {
			for _, w := range []*Wanted{p.Label, p.Called} {
				if w != nil && w.Text != nil {
					template(w.Text)
				}
			}
		}
	})
	var value func(v Value)
	value = func(v Value) {
		switch v := v.(type) {
		case Variable:
			use(v.Pos, v.Name, len(v.Name)+1)
		case Text:
			template(&v.Template)
		case Binary:
			value(v.Left)
			value(v.Right)
		}
	}
	switch s := st.(type) {
	case *Fill:
		value(s.Value)
	case *Type:
		value(s.Value)
	case *Let:
		value(s.Value)
	case *TakePicture:
		template(&s.Name)
	case *ExpectShows:
		value(s.Value)
	case *ExpectNumber:
		value(s.Left)
		value(s.Right)
	}
}
