package script

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// check looks at what was read as a whole.
func (p *parser) check() {
	start := Pos{Line: 1, Column: 1}
	if !p.named {
		hint := `begin the file with suite "…"`
		if len(p.suite.declared) == 0 && len(p.suite.Actions) > 0 {
			hint += `, or have suites use it: use "….yamato"`
		}
		p.report(Finding{Pos: start, Length: 1, Rule: token.NoName, Message: "the suite has no name", Hint: hint})
	}
	if len(p.suite.declared) == 0 && p.failed == 0 {
		p.report(Finding{Pos: start, Length: 1, Rule: token.NoCase, Message: "the suite has no case",
			Hint: `add case "…" … end`})
	}
	p.resolve()
	p.checkActions()
	p.names()
	around := p.suite.Around
	always := map[string]bool{} // names that all cases have
	for _, g := range p.suite.Given {
		always[g.Name] = true
	}
	if around.BeforeAll != nil {
		p.variables(always, around.BeforeAll)
	}
	each := maps.Clone(always)
	if around.BeforeEach != nil {
		p.variables(each, around.BeforeEach)
	}
	for _, c := range p.suite.declared {
		given := maps.Clone(each)
		if c.data != nil {
			for _, n := range c.data.names {
				given[n.Name] = true
			}
		}
		p.variables(given, c.Body)
		if !p.broken[c] && !p.expects(c) {
			p.report(Finding{Pos: c.Pos, Length: 4, Rule: token.NoExpect,
				Message: "this case expects nothing, so only a crash can fail it",
				Hint:    "add an `expect`", Advice: true})
		}
	}
	if around.AfterEach != nil {
		p.variables(each, around.AfterEach)
	}
	if around.AfterAll != nil {
		p.variables(always, around.AfterAll)
	}
	for _, b := range around.blocks() {
		p.counsel(b)
	}
	for _, c := range p.suite.declared {
		p.counsel(c.Body)
	}
	p.unused()
}

// names reports cases that are called the same.
func (p *parser) names() {
	names := map[string]Pos{}
	for _, c := range p.suite.Cases {
		at := c.Pos
		if c.Row.Line > 0 {
			at = c.Row
		}
		name := screen.Fold(c.Name)
		if first, ok := names[name]; ok && c.Name != "" {
			p.report(Finding{Pos: at, Length: 4,
				Rule: token.TwiceCase, Message: fmt.Sprintf("a case with this name stands on line %d already",
					first.Line),
				Hint: "give each case a name of its own"})
			continue
		}
		names[name] = at
	}
}

// resolve gives each call the action that it names.
func (p *parser) resolve() {
	missing := p.anyBroken()
	for _, c := range p.calls {
		if c.action = p.actions[signature(c.Words)]; c.action != nil || missing {
			continue
		}
		p.report(Finding{Pos: c.Pos, Length: len([]rune(c.Text)), Rule: token.NoAction,
			Message: fmt.Sprintf("there is no action `%s`",
				strings.TrimSpace(strings.TrimPrefix(c.words(), "do"))), Hint: p.meantAction(c)})
	}
}

// anyBroken reports whether some action could not be read, so that one that is missed may be it.
func (p *parser) anyBroken() bool {
	for n := range p.broken {
		if _, ok := n.(*Action); ok && p.broken[n] {
			return true
		}
	}
	return false
}

// meantAction suggests the action that a call may have meant.
func (p *parser) meantAction(c *Call) string {
	plain := func(words []string) string {
		return strings.Join(slices.DeleteFunc(slices.Clone(words), func(w string) bool { return w == "" }), " ")
	}
	if len(p.findings) >= maxHints {
		return ""
	}
	called := plain(c.Words)
	var known []string
	usage := map[string]string{}
	for _, a := range p.suite.Actions[:min(len(p.suite.Actions), maxHints)] {
		name := plain(a.Words)
		if usage[name] == "" {
			known = append(known, name)
		}
		usage[name] = a.Usage()
		if name == called {
			return "it is called so: do " + a.Usage()
		}
	}
	if meant := token.Nearest(called, known); meant != "" {
		return "did you mean `do " + usage[meant] + "`?"
	}
	if len(known) == 0 {
		return "write it: action … end, or use the file that it stands in"
	}
	var list []string
	for _, name := range known[:min(len(known), 3)] {
		list = append(list, "do "+usage[name])
	}
	return "there are: " + strings.Join(list, ", ")
}

// checkActions looks at each action of this file by itself.
func (p *parser) checkActions() {
	for _, a := range p.suite.Actions {
		if a.Pos.File != p.name || p.broken[a] {
			continue
		}
		given := map[string]bool{}
		for _, param := range a.Params {
			given[param.Name] = true
		}
		p.variables(given, a.Body)
		p.counsel(a.Body)
	}
}

// unused advises on actions of the suite's own file that nothing calls.
func (p *parser) unused() {
	called := map[*Action]bool{}
	for _, c := range p.calls {
		called[c.action] = true
	}
	for _, a := range p.suite.Actions {
		if a.Pos.File == "" && !called[a] && !p.broken[a] && len(p.suite.declared) > 0 {
			p.report(Finding{Pos: a.Pos, Length: a.Length, Rule: token.IdleAction,
				Message: fmt.Sprintf("nothing does `%s`", a.Usage()),
				Hint:    "take it out, or call it: do " + a.Usage(), Advice: true})
		}
	}
}

// expects reports whether a case, or what it calls, expects anything.
func (p *parser) expects(c *Case) (does bool) {
	for _, b := range append(p.suite.bodies(c), slices.DeleteFunc([]*Block{p.suite.Around.AfterEach},
		func(b *Block) bool { return b == nil })...) {
		if p.blockExpects(b, 0) {
			return true
		}
	}
	return false
}

func (p *parser) blockExpects(b *Block, depth int) (does bool) {
	Inspect(b, func(n Node) bool {
		if _, ok := n.(expecting); ok {
			does = true
		}
		if c, ok := n.(*Call); ok && c.action != nil && depth < maxCalls {
			answer, known := p.expecting[c.action]
			if !known {
				p.expecting[c.action] = false // of a circle
				answer = p.blockExpects(c.action.Body, depth+1)
				p.expecting[c.action] = answer
			}
			does = does || answer
		} else if ok && c.action == nil {
			does = true // it may; that it is not there was told
		}
		return !does
	})
	return does
}

// variables reports names that are used before they have a value. It adds those that get
// one to given.
func (p *parser) variables(given map[string]bool, b *Block) {
	told := map[string]bool{}
	use := func(at Pos, name string, length int) {
		account, _, dotted := strings.Cut(name, ".")
		if given[name] || dotted && given[account+"."] || told[name] || p.attempted[name] ||
			len(p.findings) >= maxFindings {
			return
		}
		told[name] = true
		hint := ""
		if len(p.findings) < maxHints {
			names := slices.DeleteFunc(slices.Sorted(maps.Keys(given)),
				func(n string) bool { return strings.HasSuffix(n, ".") })
			hint = token.Meant(name, names)
		}
		if dotted && given[account] {
			hint = "only an account has fields: account \"…\" as $" + account
		}
		if hint == "" {
			hint = "give it a value before: let " + name + " = …"
		}
		p.report(Finding{Pos: at, Length: length, Rule: token.NoValue,
			Message: fmt.Sprintf("nothing is called `%s` here", name),
			Hint:    hint})
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
			case *Let:
				if c := n.Call; c != nil && c.action != nil && !p.broken[c.action] && !givesBack(c.action) {
					p.report(Finding{Pos: c.Pos, Length: 2, Rule: token.GivesNothing,
						Message: fmt.Sprintf("`do %s` gives nothing back", c.action.Usage()),
						Hint:    "end the action with: give back V"})
				}
			}
			return true
		})
		if l, ok := st.(naming); ok {
			for _, name := range l.names() {
				given[name] = true
				if _, account := st.(*TakeAccount); account {
					given[name+"."] = true
				}
			}
		}
	}
}

func givesBack(a *Action) (does bool) {
	Inspect(a.Body, func(n Node) bool {
		_, gives := n.(*GiveBack)
		does = does || gives
		return !does
	})
	return does
}

// counsel tells what steps and locators have about them that is seldom meant.
func (p *parser) counsel(b *Block) {
	Inspect(b, func(n Node) bool {
		if len(p.findings) >= maxFindings {
			return false
		}
		switch n := n.(type) {
		case *Element:
			if id := likelyID(n); id != "" {
				p.report(Finding{Pos: n.Pos, Length: n.Length, Rule: token.LikelyID,
					Message: fmt.Sprintf("%q reads as an id, and is looked for as a text", id),
					Hint:    "is it #" + id + "?", Advice: true})
			}
		case Statement:
			if v, ok := n.(vain); ok {
				if message, hint := v.advice(); message != "" {
					s := n.base()
					p.report(Finding{Pos: s.Pos, Length: len([]rune(s.Text)), Rule: token.Amiss, Message: message,
						Hint: hint, Advice: true})
				}
			}
		}
		return true
	})
}

// likelyID gives a text that is looked for and has the form of an id: small letters with hyphens
// or underscores between, or with capitals inside a word.
func likelyID(e *Element) string {
	if e.Label == nil || e.Label.Text == nil || len(e.Label.Text.Parts) != 1 || e.Label.Text.Parts[0].Variable != "" {
		return ""
	}
	text := e.Label.Text.Parts[0].Text
	if text == "" || !token.IsName(text) || strings.ContainsFunc(text[:1], unicode.IsUpper) {
		return ""
	}
	mark := strings.ContainsAny(text, "_") || strings.Contains(text, "-") && strings.ToLower(text) == text &&
		strings.Count(text, "-") >= 1
	if inner := strings.ContainsFunc(text, unicode.IsUpper); mark || inner {
		return text
	}
	return ""
}

// Needed are the abilities and traits that a case can say it needs.
func Needed() []string {
	out := slices.Clone(fleet.Traits)
	for _, a := range device.Abilities {
		if !slices.Contains(out, a.Name) {
			out = append(out, a.Name)
		}
	}
	return append(out, "back")
}
