package script

import (
	"math/big"
	"regexp"
	"time"

	"yamato/internal/core/screen"
)

// Suite is one script file.
type Suite struct {
	Name       string
	Tags       []string
	Patience   time.Duration // 0 where the file states none
	KeepApp    bool          // cases go on in the app that the case before left
	BeforeEach []Statement
	Cases      []Case
}

// Case is one test.
type Case struct {
	Pos  Pos
	Name string
	Tags []string
	Body []Statement
}

// Statement is one step. Exactly one type below implements each kind.
type Statement interface{ base() *Step }

// Step is what all statements have.
type Step struct {
	Pos    Pos
	Text   string        // as written, white space folded
	Within time.Duration // 0 where the patience in force holds
}

func (s *Step) base() *Step { return s }

// The statements.
type (
	// StartApp starts the app, with its data gone if Fresh.
	StartApp struct {
		Step
		Fresh bool
	}
	// Tap touches the middle of an element.
	Tap struct {
		Step
		Element Element
	}
	// Fill replaces what a field holds.
	Fill struct {
		Step
		Element Element
		Value   Value
	}
	// Type presses keys, in Into if that is given.
	Type struct {
		Step
		Value Value
		Into  *Element
	}
	// Press presses one key of the device.
	Press struct {
		Step
		Key string
	}
	// Let names a value.
	Let struct {
		Step
		Name  string
		Value Value
	}
	// TakePicture keeps a picture of the screen, or of one element.
	TakePicture struct {
		Step
		Element *Element
		Name    Template
	}
	// ExpectShown expects an element to be seen, or none with No.
	ExpectShown struct {
		Step
		Element Element
		No      bool
	}
	// ExpectShows expects an element's content to be Value.
	ExpectShows struct {
		Step
		Element Element
		Value   Value
	}
	// ExpectCount compares how many elements are seen.
	ExpectCount struct {
		Step
		Element Element
		Compare string // "=", ">=", "<="
		Count   int
	}
	// ExpectNumber compares two numbers.
	ExpectNumber struct {
		Step
		Left    Value
		Compare string // = < > <= >=
		Right   Value
	}
)

// Template is a text with {names} of variables in it.
type Template struct {
	Pos   Pos
	Parts []Part
}

// Part is a piece of plain text, or the name of a variable.
type Part struct {
	Text     string
	Variable string
}

// Wanted is a text to match: a template, or a pattern.
type Wanted struct {
	Text    *Template
	Pattern *regexp.Regexp
}

// Element is a locator as written, before variables have values.
type Element struct {
	Pos     Pos
	Length  int
	Text    string // canonical, with variables unresolved: what the locator is known by
	Label   *Wanted
	ID      string
	Role    string
	Called  *Wanted
	Ordinal int
	In      *Element
}

// Value is what can be computed.
type Value interface{ value() }

// The values.
type (
	// Text is a text.
	Text struct{ Template Template }
	// Number is a plain number.
	Number struct{ Value *big.Rat }
	// Variable is a named value.
	Variable struct {
		Pos  Pos
		Name string
	}
	// NumberIn is the number that an element shows.
	NumberIn struct{ Element Element }
	// Binary is + - * or / of two values.
	Binary struct {
		Sign        string
		Left, Right Value
	}
)

func (Text) value()     {}
func (Number) value()   {}
func (Variable) value() {}
func (NumberIn) value() {}
func (Binary) value()   {}

// Keys are what press knows, and the ability each needs, if any. The characters
// are those of W3C WebDriver, 17.4.2, keyboard actions.
var Keys = map[string]struct {
	Character string
	Ability   string
}{
	"enter":     {"\uE007", ""},
	"tab":       {"\uE004", ""},
	"escape":    {"\uE00C", ""},
	"backspace": {"\uE003", ""},
	"back":      {"", "back"},
	"home":      {"", "home"},
}

// Roles are the WAI-ARIA 1.2 roles that a locator may name.
var Roles = map[string]bool{}

func init() {
	for _, r := range []string{
		"alert", "application", "article", "banner", "button", "cell", "checkbox", "columnheader", "combobox", "complementary",
		"contentinfo", "dialog", "figure", "form", "grid", "gridcell", "group", "heading", "img", "link", "list", "listbox",
		"listitem", "log", "main", "menu", "menubar", "menuitem", "meter", "navigation", "note", "option", "progressbar",
		"radio", "radiogroup", "region", "row", "scrollbar", "search", "searchbox", "separator", "slider", "spinbutton",
		"status", "switch", "tab", "table", "tablist", "tabpanel", "textbox", "timer", "toolbar", "tooltip", "tree", "treeitem",
	} {
		Roles[r] = true
	}
}

// Needs gives the abilities that a case needs beyond the required core, with
// what its suite does before each.
func (s *Suite) Needs(c *Case) []string {
	var needs []string
	for _, body := range [][]Statement{s.BeforeEach, c.Body} {
		for _, st := range body {
			if p, ok := st.(*Press); ok && Keys[p.Key].Ability != "" {
				needs = append(needs, Keys[p.Key].Ability)
			}
		}
	}
	return needs
}

// Locators gives the canonical form of every locator in the suite, once each.
func (s *Suite) Locators() []string {
	all := []string{}
	seen := map[string]bool{}
	add := func(e Element) {
		for p := &e; p != nil; p = p.In {
			if !seen[p.Text] {
				seen[p.Text] = true
				all = append(all, p.Text)
			}
		}
	}
	bodies := [][]Statement{s.BeforeEach}
	for _, c := range s.Cases {
		bodies = append(bodies, c.Body)
	}
	for _, body := range bodies {
		for _, st := range body {
			elements(st, add)
		}
	}
	return all
}

// elements calls visit for every element that a statement names.
func elements(st Statement, visit func(Element)) {
	switch s := st.(type) {
	case *Tap:
		visit(s.Element)
	case *Fill:
		visit(s.Element)
		valueElements(s.Value, visit)
	case *Type:
		valueElements(s.Value, visit)
		if s.Into != nil {
			visit(*s.Into)
		}
	case *Let:
		valueElements(s.Value, visit)
	case *TakePicture:
		if s.Element != nil {
			visit(*s.Element)
		}
	case *ExpectShown:
		visit(s.Element)
	case *ExpectShows:
		visit(s.Element)
		valueElements(s.Value, visit)
	case *ExpectCount:
		visit(s.Element)
	case *ExpectNumber:
		valueElements(s.Left, visit)
		valueElements(s.Right, visit)
	}
}

func valueElements(v Value, visit func(Element)) {
	switch v := v.(type) {
	case NumberIn:
		visit(v.Element)
	case Binary:
		valueElements(v.Left, visit)
		valueElements(v.Right, visit)
	}
}

// NoOrdinal is the Ordinal of an element that names none.
const NoOrdinal = screen.NoOrdinal
