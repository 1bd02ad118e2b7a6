// Package feel is the one table of what a device can be made to feel: its surroundings. Steps of
// scripts, factors of plans and their levels, what a person sets in a session, the console's
// controls and the table in docs/surroundings.md are made of it. Another surrounding is a row here,
// and an ability in core/device that drivers have.
package feel

import (
	"context"
	"slices"
	"strings"

	"yamato/internal/core/device"
)

// Surrounding is something that a device is made to feel. A level of it is a text, the same in a
// script's step, a plan, a session's order and the records: "portrait", "130%", "35.1, 139.2".
type Surrounding struct {
	Name    string // "text size"
	Label   string // on its control in the console
	About   string // what a level says, for people: "a language as BCP 47 names it"
	Ability string // what a device needs for it (device.Abilities)
	// Usual is the level of a device that was cleaned; "" where each device has one of its own.
	Usual string
	// Varied tells that plans can vary it.
	Varied bool
	// Always tells that every combination of a run has a level of it.
	Always bool
	// Passing tells that it is over at once: nothing is there to be undone.
	Passing bool
	// Choices are levels to choose from, with the words on their buttons; the first is the usual one
	// where there is one.
	Choices []Choice
	// Open tells that other levels can be than the choices; Example is one of them.
	Open    bool
	Example string
	// Verb is what a control says that takes an open level: "Set".
	Verb string
	// Forms are how a script's step says a level.
	Forms []Form

	// read gives a level in its canonical form, or why it is none.
	read func(level string) (string, error)
	// words are how people read a level in a list of levels; as it is where nil.
	words func(level string) string
	// told says a canonical level after "it": "is held across".
	told func(level string) string
	// do has a device feel a canonical level; app is the app that it is about.
	do func(ctx context.Context, d device.Device, app, level string) error
	// is gives the level that a device tells itself, "" where it cannot tell.
	is func(f device.Feels) string
}

// Choice is a level to choose, and how a button calls it.
type Choice struct{ Level, Words string }

// Form is how a step of a script says a level: a word that begins it, and pieces after that.
type Form struct {
	Word   string
	Pieces []Piece
	// Level makes the level of what the pieces that are read say, in their order.
	Level func(read []string) string
}

// Piece is a part of a form: one of a word, a choice, a text, a percentage or a number.
type Piece struct {
	Word    string   // stands there as it is
	Maybe   string   // a word that can be left out; reads as itself, or as ""
	OneOf   []string // one of these words
	What    string   // what it is, for who leaves it out
	Example string   // of it, for who asks how it is written
	Text    bool     // a text in quotes
	Rest    bool     // a text after a comma, that can be left out
	Percent bool     // a whole percentage; reads as in 15%
	Number  bool     // an expression; reads as a decimal number
}

// Named gives the surrounding of a name, nil where there is none.
func Named(name string) *Surrounding {
	if i := slices.IndexFunc(All, func(s *Surrounding) bool { return s.Name == name }); i >= 0 {
		return All[i]
	}
	return nil
}

// Names gives the names of all, in order.
func Names() []string {
	out := make([]string, 0, len(All))
	for _, s := range All {
		out = append(out, s.Name)
	}
	return out
}

// Read gives a level in its canonical form, or why it is none.
func (s *Surrounding) Read(level string) (string, error) { return s.read(level) }

// Check tells why a text is no level, "" where it is one.
func (s *Surrounding) Check(level string) string {
	if _, err := s.read(level); err != nil {
		return err.Error()
	}
	return ""
}

// Words are how people read a level in a list of levels.
func (s *Surrounding) Words(level string) string {
	if s.words == nil {
		return level
	}
	return s.words(level)
}

// Told says a level after "it": "is held across".
func (s *Surrounding) Told(level string) string {
	if canonical, err := s.read(level); err == nil {
		level = canonical
	}
	return s.told(level)
}

// Can tells whether a device can be made to feel it.
func (s *Surrounding) Can(d device.Device) bool {
	return slices.Contains(device.Names(d), s.Ability)
}

// Do has a device feel a level; app is the app that it is about, where it is about one. Its error is
// device.ErrNoAbility where the device cannot, one that says why the text is no level, or the device's.
func (s *Surrounding) Do(ctx context.Context, d device.Device, app, level string) error {
	canonical, err := s.read(level)
	if err != nil {
		return err
	}
	return s.do(ctx, d, app, canonical)
}

// Begin has a device feel a level from the start: one that it feels anyway it need not be able to be given.
func (s *Surrounding) Begin(ctx context.Context, d device.Device, app, level string) error {
	if canonical, err := s.read(level); err == nil && canonical == s.Usual && !s.Can(d) {
		return nil
	}
	return s.Do(ctx, d, app, level)
}

// Rest gives the level that undoing goes back to: the usual one, or what the device feels now where each
// has its own. ok is false where nobody can tell: cleaning alone takes it back.
func (s *Surrounding) Rest(ctx context.Context, d device.Device, app string) (level string, ok bool) {
	if s.Passing {
		return "", false
	}
	if s.Usual != "" || s.is == nil {
		return s.Usual, true
	}
	aware, ok := device.As[device.Aware](d)
	if !ok {
		return "", false
	}
	f, err := aware.Feels(ctx, app)
	level = s.is(f)
	return level, err == nil && level != ""
}

// Has tells whether a device feels a level, as it says itself, and what it feels; what it cannot tell is
// believed.
func (s *Surrounding) Has(f device.Feels, level string) (is string, ok bool) {
	if s.is == nil {
		return "", true
	}
	want, err := s.read(level)
	is = s.is(f)
	return is, is == "" || err == nil && strings.EqualFold(is, want)
}

// Usages tells how steps say levels, by their first word, in the table's order.
func Usages() (words []string, usage map[string]string) {
	usage = map[string]string{}
	for _, group := range Grouped() {
		words = append(words, group.Word)
		usage[group.Word] = group.usage()
	}
	return words, usage
}

// Usage tells how steps say levels of it.
func (s *Surrounding) Usage() (out []string) {
	for _, g := range Grouped() {
		g.Forms = slices.DeleteFunc(g.Forms, func(m Meaning) bool { return m.Of != s })
		if len(g.Forms) > 0 {
			out = append(out, g.usage())
		}
	}
	return out
}

// Group are the forms that begin with one word, each with what it is of.
type Group struct {
	Word  string
	Forms []Meaning
}

// Meaning is a form, and the surrounding that it says a level of.
type Meaning struct {
	Form
	Of *Surrounding
}

// Grouped gives all forms by the words that they begin with, in the table's order.
func Grouped() (out []Group) {
	for _, s := range All {
		for _, f := range s.Forms {
			i := slices.IndexFunc(out, func(g Group) bool { return g.Word == f.Word })
			if i < 0 {
				i = len(out)
				out = append(out, Group{Word: f.Word})
			}
			out[i].Forms = append(out[i].Forms, Meaning{f, s})
		}
	}
	return out
}

// usage says the forms of a group; those that differ in their last word alone are said as one.
func (g Group) usage() string {
	var said []string
	for _, m := range g.Forms {
		words := []string{g.Word}
		for _, p := range m.Pieces {
			words = append(words, p.usage())
		}
		one := strings.ReplaceAll(strings.Join(words, " "), " ,", ",")
		if n := len(said); n > 0 && len(words) > 1 && m.Pieces[len(m.Pieces)-1].Word != "" {
			if head, _ := cutLast(one); strings.HasPrefix(said[n-1], head+" ") &&
				!strings.Contains(said[n-1][len(head)+1:], " ") {
				_, tail := cutLast(one)
				said[n-1] += "|" + tail
				continue
			}
		}
		said = append(said, one)
	}
	return strings.Join(said, " · ")
}

func cutLast(s string) (head, tail string) {
	i := strings.LastIndexByte(s, ' ')
	return s[:max(i, 0)], s[i+1:]
}

func (p Piece) usage() string {
	switch {
	case p.Word != "":
		return p.Word
	case p.Maybe != "":
		return "[" + p.Maybe + "]"
	case len(p.OneOf) > 0:
		return strings.Join(p.OneOf, "|")
	case p.Rest:
		return `, "` + p.Example + `"`
	case p.Text:
		return `"` + p.Example + `"`
	}
	return p.Example
}
