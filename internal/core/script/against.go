package script

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"yamato/internal/core/near"
	"yamato/internal/core/script/token"
)

// Against is what a suite can be checked against beside itself. What is nil is not looked at.
type Against struct {
	App      string
	Known    func(locator string) bool // whether a locator has ever matched in the app
	Seen     []Seen                    // what the app's screens had on them
	Texts    Texts                     // texts of a build's own
	Secrets  []string
	Accounts []string
	Builds   func(name string) bool
	Devices  []Able
}

// Texts are the texts of a build's own: by key, in which languages there is one; "" is for all.
type Texts map[string]map[string]string

// Able is what a device can do.
type Able struct {
	Name      string
	Abilities []string
	Traits    []string
}

// Against gives what there is to say of a suite that has been read.
func (s *Suite) Against(a Against) []Finding {
	c := &comparison{suite: s, a: a, told: map[string]bool{}, ids: map[string]bool{}, texts: map[[2]string]bool{}}
	for _, seen := range a.Seen {
		c.ids[seen.ID] = true
		c.texts[[2]string{seen.Text, seen.Role}], c.texts[[2]string{seen.Text, ""}] = true, true
	}
	c.languages()
	Inspect(s, func(n Node) bool {
		if len(c.findings) >= maxFindings {
			return false
		}
		switch n := n.(type) {
		case *Element:
			c.element(n)
		case *Word:
			c.word(n)
		case *Secret:
			c.named(n.Pos, n.Length, "secret", n.Name, a.Secrets, "yamato secret set "+asWord(n.Name))
		case *TakeAccount:
			c.named(n.Pos, len([]rune(n.Text)), "account", n.Account, a.Accounts,
				"yamato account add "+asWord(n.Account)+" --user …")
		case *UpdateApp:
			if a.Builds != nil && !a.Builds(n.Build) {
				c.report(token.NoBuild, n.Pos, len([]rune(n.Text)), false, fmt.Sprintf("%s has no build %q",
					a.App, n.Build), "`yamato build ls` lists them")
			}
		}
		if st, ok := n.(Statement); ok {
			c.mayLack = false
			_, c.decides = st.(*If)
			if l, ok := st.(absent); ok {
				c.mayLack = l.absence()
			}
			c.able(st)
		}
		return true
	})
	return c.findings
}

type comparison struct {
	suite    *Suite
	a        Against
	told     map[string]bool
	ids      map[string]bool    // of all that was seen
	texts    map[[2]string]bool // with their roles, and with none
	mayLack  bool
	decides  bool     // it is what an if is decided by
	all      []string // languages of the build
	findings []Finding
}

func (c *comparison) report(rule token.Rule, at Pos, length int, advice bool, message, hint string) {
	key := fmt.Sprint(at, message)
	if c.told[key] {
		return
	}
	c.told[key] = true
	c.findings = append(c.findings, Finding{Pos: at, Length: max(1, length), Rule: rule, Message: message, Hint: hint,
		Advice: advice}.
		Excerpt(c.suite.sources[at.File]))
}

// element advises on a locator that has never matched, and says what it may have meant.
func (c *comparison) element(e *Element) {
	if e.ID != "" && len(c.a.Seen) > 0 {
		if !c.ids[e.ID] {
			c.never(e, "#"+e.ID, e.ID, func(s Seen) string { return s.ID }, "#")
		} else {
			c.doubt(e, "#"+e.ID, func(s Seen) bool { return s.ID == e.ID })
		}
		return
	}
	for _, w := range []*Wanted{e.Label, e.Called} {
		if w == nil || w.Text == nil || len(w.Text.Parts) != 1 || w.Text.Parts[0].Variable != "" || len(c.a.Seen) == 0 {
			continue
		}
		text := w.Text.Parts[0].Text
		if c.texts[[2]string{text, e.Role}] {
			c.doubt(e, quote(text), func(s Seen) bool { return s.Text == text && (e.Role == "" || s.Role == e.Role) })
			return
		}
		if strings.ContainsAny(text, "0123456789") || c.a.Known != nil && c.a.Known(e.Text) {
			continue
		}
		c.never(e, quote(text), text, func(s Seen) string { return s.Text }, "")
		return
	}
	if c.a.Known == nil || c.a.Known(e.Text) || c.told[e.Text] {
		return
	}
	c.told[e.Text] = true
	c.report(token.NeverSeen, e.Pos, e.Length, true, "nothing has ever matched "+e.Text+" in this app", c.misspelt())
}

// asWord is a name as a shell takes it for one word.
func asWord(name string) string {
	if token.IsName(name) {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}

// doubt advises on a locator of which nothing was ever seen but what a person may see otherwise.
func (c *comparison) doubt(e *Element, what string, is func(Seen) bool) {
	why := ""
	for _, s := range c.a.Seen {
		if is(s) && s.Unsure == "" {
			return
		}
		if is(s) && why == "" {
			why = s.Unsure
		}
	}
	if why != "" {
		c.report(token.SeenOther, e.Pos, e.Length, true, fmt.Sprintf("a person may see %s otherwise: %s", what, why),
			"look at its picture once: a verdict that rests on it says so")
	}
}

func (c *comparison) misspelt() string {
	if c.decides {
		return "is it misspelt? a branch that it decides is decided by nothing"
	}
	if c.mayLack {
		return "is it misspelt? that it is not there passes for ever"
	}
	return "is it misspelt? a step that needs it ends as an error"
}

func (c *comparison) never(e *Element, what, wanted string, of func(Seen) string, mark string) {
	if c.told[what] {
		return
	}
	c.told[what] = true
	hint := c.misspelt()
	best, at := "", ""
	length := len([]rune(wanted))
	limit := max(2, length/3)
	for _, s := range c.a.Seen {
		if have := of(s); have != "" && len(c.findings) < maxHints && max(length-utf8.RuneCountInString(have),
			utf8.RuneCountInString(have)-length) <= limit {
			if d := near.Distance(strings.ToLower(wanted), strings.ToLower(have)); d <= limit && d > 0 || d == 0 {
				if best == "" || d < limit {
					best, at, limit = have, s.Screen, d
				}
			}
		}
	}
	if best != "" {
		if mark == "" {
			best = quote(best)
		}
		hint = "the nearest is " + mark + best
		if at != "" {
			hint += ", on " + quote(at)
		}
	}
	c.report(token.NeverSeen, e.Pos, e.Length, true, fmt.Sprintf("no screen of %s ever had %s", c.app(), what), hint)
}

func (c *comparison) app() string {
	if c.a.App == "" {
		return "this app"
	}
	return c.a.App
}

func (c *comparison) languages() {
	for _, by := range c.a.Texts {
		for l := range by {
			if l != "" && !slices.Contains(c.all, l) {
				c.all = append(c.all, l)
			}
		}
	}
	slices.Sort(c.all)
}

// word tells of a key that the build lacks, at all or in one of its languages.
func (c *comparison) word(w *Word) {
	if c.a.Texts == nil {
		return
	}
	by, ok := c.a.Texts[w.Key]
	if !ok {
		known := []string{}
		for k := range c.a.Texts {
			known = append(known, k)
		}
		slices.Sort(known)
		c.report(token.NoText, w.Pos, w.Length, false, fmt.Sprintf("this build has no text `%s`", w.Key),
			token.Meant(w.Key, known))
		return
	}
	if by[""] != "" {
		return
	}
	var lacks []string
	for _, l := range c.all {
		if _, ok := by[l]; !ok {
			lacks = append(lacks, l)
		}
	}
	if len(lacks) > 0 {
		c.report(token.NoText, w.Pos, w.Length, false, fmt.Sprintf("this build has no text `%s` in %s", w.Key,
			strings.Join(lacks, ", ")),
			"the app needs it in each of its languages")
	}
}

func (c *comparison) named(at Pos, length int, what, name string, known []string, command string) {
	if known == nil || slices.Contains(known, name) {
		return
	}
	hint := token.Meant(name, known)
	if hint == "" {
		hint = "`" + command + "` gives it one"
	}
	c.report(token.NotKept, at, length, false, fmt.Sprintf("the project has no %s %s", what, quote(name)), hint)
}

// able tells of a step that some devices cannot do.
func (c *comparison) able(st Statement) {
	n, ok := st.(needing)
	if !ok || len(c.a.Devices) == 0 {
		return
	}
	var lacks []string
	needs := n.needs()
	for _, d := range c.a.Devices {
		for _, need := range needs {
			if !slices.Contains(d.Abilities, need) {
				lacks = append(lacks, d.Name)
				break
			}
		}
	}
	if len(lacks) == 0 {
		return
	}
	who := strings.Join(lacks[:min(len(lacks), 4)], ", ")
	if more := len(lacks) - 4; more > 0 {
		who += fmt.Sprintf(" and %d more", more)
	}
	if len(lacks) == len(c.a.Devices) {
		who = "no device of the lineup"
		c.report(token.NoAbility, st.base().Pos, len([]rune(st.base().Text)), true,
			who+" has the ability "+strings.Join(needs, ", "),
			"its case is skipped on all of them")
		return
	}
	c.report(token.NoAbility, st.base().Pos, len([]rune(st.base().Text)), true,
		who+" cannot do this: it takes the ability "+strings.Join(needs, ", "),
		"its case is skipped there")
}
