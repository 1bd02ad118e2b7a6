package fleet

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"yamato/internal/core/document"
	"yamato/internal/core/states"
)

// Lineup is a rule that chooses devices, as people write it down.
type Lineup struct {
	Name  string   `yaml:"lineup" json:"name"`
	About string   `yaml:"about,omitempty" json:"about,omitempty"`
	Pick  []Filter `yaml:"pick" json:"pick"`                     // a device that one of these takes; none: every device
	Skip  []Filter `yaml:"skip,omitempty" json:"skip,omitempty"` // and none of these
	Pin   Words    `yaml:"pin,omitempty" json:"pin,omitempty"`   // names of devices that go first
	Take  int      `yaml:"take,omitempty" json:"take,omitempty"` // how many; 0 for all
	First Words    `yaml:"first,omitempty" json:"first,omitempty"`
}

// Filter takes the devices that have all that it names.
type Filter struct {
	Platform  Words `yaml:"platform,omitempty" json:"platform,omitempty"`
	Kind      Words `yaml:"kind,omitempty" json:"kind,omitempty"`
	Form      Words `yaml:"form,omitempty" json:"form,omitempty"`
	OS        Span  `yaml:"os,omitempty" json:"os,omitempty"`
	Engine    Words `yaml:"engine,omitempty" json:"engine,omitempty"` // of web browsers: Blink, Gecko, WebKit
	Model     Words `yaml:"model,omitempty" json:"model,omitempty"`
	Site      Words `yaml:"site,omitempty" json:"site,omitempty"`
	Name      Words `yaml:"name,omitempty" json:"device,omitempty"`
	Owner     Words `yaml:"owner,omitempty" json:"owner,omitempty"`
	Traits    Words `yaml:"traits,omitempty" json:"traits,omitempty"`       // all of them
	Abilities Words `yaml:"abilities,omitempty" json:"abilities,omitempty"` // all of them
	Labels    Words `yaml:"labels,omitempty" json:"labels,omitempty"`       // all of them
}

// Words are one word or several.
type Words []string

// UnmarshalYAML takes a word or a list of them.
func (w *Words) UnmarshalYAML(decode func(any) error) error {
	var list []document.Text
	if decode(&list) == nil {
		*w = nil
		for _, one := range list {
			*w = append(*w, string(one))
		}
		return nil
	}
	var one document.Text
	if err := decode(&one); err != nil {
		return errors.New("a word or a list of words belongs here")
	}
	*w = Words{string(one)}
	return nil
}

// Span is a range of OS versions: "14", "13..15", "14.." or "..16".
type Span string

// UnmarshalYAML takes it as it is written.
func (s *Span) UnmarshalYAML(node ast.Node) error {
	var t document.Text
	err := t.UnmarshalYAML(node)
	*s = Span(t)
	return err
}

var spanForm = regexp.MustCompile(`^(\d[\d.]*)?(\.\.)?(\d[\d.]*)?$`)

// parts gives the ends of a span, "" where it is open.
func (s Span) parts() (from, to string) {
	from, to, isRange := strings.Cut(string(s), "..")
	if !isRange {
		return from, from
	}
	return from, to
}

// holds tells whether a version lies in the span; 14.2 lies in "14" and in "13..14".
func (s Span) holds(version string) bool {
	from, to := s.parts()
	version = versionOf(version)
	return (from == "" || compareVersions(version, from) >= 0) && (to == "" || compareVersions(asExactlyAs(version, to),
		to) <= 0)
}

// asExactlyAs cuts a version to as many numbers as another has.
func asExactlyAs(version, other string) string {
	dots := strings.Count(other, ".")
	for i := range len(version) {
		if version[i] == '.' {
			if dots == 0 {
				return version[:i]
			}
			dots--
		}
	}
	return version
}

// Orders that a lineup may ask for.
const (
	NewestOS    = "newest_os"
	NewestModel = "newest_model"
	LeastUsed   = "least_used"
	Spread      = "spread" // over models: one of each before a second of any
)

const maxLineup = 64 << 10 // bytes of a lineup's text

// ReadLineup reads a lineup from its text. Errors name what is wrong and where.
func ReadLineup(text string) (*Lineup, error) {
	if len(text) > maxLineup {
		return nil, fmt.Errorf("a lineup has at most %d kB", maxLineup>>10)
	}
	var l Lineup
	if err := document.Read([]byte(text), &l); err != nil {
		return nil, fmt.Errorf("the lineup cannot be read: %w", err)
	}
	if strings.TrimSpace(l.Name) == "" || len(l.Name) > 100 {
		return nil, errors.New("a lineup begins with its name: `lineup: crossing phones`")
	}
	if l.Take < 0 || l.Take > 10_000 {
		return nil, errors.New("`take` is how many devices: 1 to 10000, or nothing for all")
	}
	if len(l.Pick)+len(l.Skip) > 100 {
		return nil, errors.New("a lineup has at most 100 picks")
	}
	for _, f := range l.First {
		if !slices.Contains([]string{NewestOS, NewestModel, LeastUsed, Spread}, f) {
			return nil, fmt.Errorf("`first` knows newest_os, newest_model, least_used and spread, not %q", f)
		}
	}
	for _, f := range append(slices.Clone(l.Pick), l.Skip...) {
		if !spanForm.MatchString(string(f.OS)) {
			return nil, fmt.Errorf("`os` is a version or a range, as in 14, 13..15, 14.. — not %q", f.OS)
		}
		if from, to, ok := strings.Cut(string(f.OS), ".."); ok && from != "" && to != "" &&
			compareVersions(from, to) > 0 {
			return nil, fmt.Errorf("`os` is a range from old to new: write %s..%s, not %s", to, from, f.OS)
		}
		for what, c := range map[string]struct{ words, known []string }{
			"platform": {f.Platform, []string{"android", "ios", "web"}},
			"kind":     {f.Kind, []string{Emulator, Simulator, Real}},
			"form":     {f.Form, []string{"phone", "tablet"}},
			"engine":   {f.Engine, Engines},
		} {
			for _, w := range c.words {
				if !slices.Contains(c.known, w) {
					return nil, fmt.Errorf("`%s` is one of %s, not %q", what, strings.Join(c.known, ", "), w)
				}
			}
		}
	}
	return &l, nil
}

// lacks gives the first thing in which d is not what f asks for, "" where it is, and
// how many things were as asked before.
func (f *Filter) lacks(d *Device, s sayings) (why string, met int) {
	one := func(what string, want Words, have string) bool {
		if len(want) == 0 {
			return true
		}
		if !slices.Contains(want, have) {
			why = s.say(what, have, func() string {
				if have == "" {
					return "it has no " + what
				}
				return "its " + what + " is " + have
			})
			return false
		}
		met++
		return true
	}
	if !one("platform", f.Platform, d.Platform) || !one("kind", f.Kind, d.Kind) || !one("form", f.Form, d.Form) ||
		!one("model", f.Model, d.Model) || !one("engine", f.Engine, EngineOf(d.Platform, d.OS)) ||
		!one("site", f.Site, d.Site) || !one("name", f.Name, d.Name) || !one("owner", f.Owner, d.Owner) {
		return why, met
	}
	if f.OS != "" {
		if met++; !f.OS.holds(d.OS) {
			return s.say("OS", d.OS, func() string { return "its OS is " + d.OS }), met
		}
	}
	all := func(what string, want Words, have []string) bool {
		for _, w := range want {
			if met++; !slices.Contains(have, w) {
				why = "it lacks the " + what + " " + w
				return false
			}
		}
		return true
	}
	if !all("trait", f.Traits, d.Traits) || !all("ability", f.Abilities, d.Abilities) ||
		!all("label", f.Labels, d.Labels) {
		return why, met
	}
	return "", met
}

// Standing is a device as it stands when a lineup chooses.
type Standing struct {
	Device
	State  states.Device
	Reason string // for the state
	Used   int64  // leases it has had
}

// Chosen is a device that a lineup takes, or passes over with the reason.
type Chosen struct {
	Name string `json:"name"`
	Why  string `json:"why"`
}

// Choice is what a lineup takes now, in its order, and what it passes over.
type Choice struct {
	Taken  []Chosen `json:"taken"`
	Passed []Chosen `json:"passed"`
}

// Choose applies a lineup to a fleet for somebody at a moment. Devices that are
// busy are taken too; those that cannot be used are passed over.
func (l *Lineup) Choose(fleet []Standing, who string, now time.Time) Choice {
	out := Choice{Taken: []Chosen{}, Passed: []Chosen{}}
	var fit []int
	said := sayings{}
	for i := range fleet {
		if why := l.passes(&fleet[i], who, now, said); why != "" {
			out.Passed = append(out.Passed, Chosen{fleet[i].Name, why})
		} else {
			fit = append(fit, i)
		}
	}
	fit = l.order(fleet, fit)
	enough := fmt.Sprintf("%d are enough, and others go first", l.Take)
	for n, i := range fit {
		d := &fleet[i]
		if l.Take > 0 && n >= l.Take {
			out.Passed = append(out.Passed, Chosen{d.Name, enough})
			continue
		}
		out.Taken = append(out.Taken, Chosen{d.Name, l.why(d)})
	}
	return out
}

// sayings are reasons by what they are of: each is worded once for all devices alike.
type sayings map[[2]string]string

func (s sayings) say(what, have string, word func() string) string {
	key := [2]string{what, have}
	text, ok := s[key]
	if !ok {
		text = word()
		s[key] = text
	}
	return text
}

// passes gives why a device is passed over, "" where it is not.
func (l *Lineup) passes(d *Standing, who string, now time.Time, s sayings) string {
	if len(l.Pick) > 0 {
		nearest, most := "", -1 // of several picks, what the nearest misses
		for i := range l.Pick {
			why, met := l.Pick[i].lacks(&d.Device, s)
			if why == "" {
				nearest = ""
				break
			}
			if met > most {
				nearest, most = why, met
			}
		}
		if nearest != "" {
			return nearest
		}
	}
	for i := range l.Skip {
		if why, _ := l.Skip[i].lacks(&d.Device, s); why == "" {
			return "it is one to skip"
		}
	}
	switch d.State {
	case "offline", "unready", "sidelined":
		return s.say(string(d.State), d.Reason, func() string {
			if d.Reason != "" {
				return "it is " + string(d.State) + ": " + d.Reason
			}
			return "it is " + string(d.State)
		})
	}
	if r, ok := d.Admits(who, now); !ok {
		return r.Why
	}
	return ""
}

// order sorts the devices that fit: pinned ones first, then as asked, then by name.
func (l *Lineup) order(fleet []Standing, fit []int) []int {
	pinned := func(d *Standing) int {
		if at := slices.Index(l.Pin, d.Name); at >= 0 {
			return at
		}
		return len(l.Pin)
	}
	type place struct {
		at, pin int
		os      versionKey
	}
	places := make([]place, len(fit))
	for n, i := range fit {
		places[n] = place{i, pinned(&fleet[i]), keyOfVersion(fleet[i].OS)}
	}
	slices.SortFunc(places, func(x, y place) int {
		if c := cmp.Compare(x.pin, y.pin); c != 0 {
			return c
		}
		a, b := &fleet[x.at], &fleet[y.at]
		for _, f := range l.First {
			c := 0
			switch f {
			case NewestOS:
				c = y.os.compare(x.os)
			case NewestModel:
				c = cmp.Compare(b.Released, a.Released)
			case LeastUsed:
				c = cmp.Compare(a.Used, b.Used)
			}
			if c != 0 {
				return c
			}
		}
		return strings.Compare(a.Name, b.Name)
	})
	for n := range places {
		fit[n] = places[n].at
	}
	if slices.Contains(l.First, Spread) {
		return spread(fleet, fit, func(d *Standing) bool { return slices.Contains(l.Pin, d.Name) })
	}
	return fit
}

// spread takes one device of each model, in the order given, before a second of
// any; what is pinned keeps its place.
func spread(fleet []Standing, fit []int, pinned func(*Standing) bool) []int {
	rank := make(map[string]int, 64)
	at := make(map[int]int, len(fit))
	for _, i := range fit {
		model := fleet[i].Model
		at[i] = rank[model]
		rank[model]++
		if pinned(&fleet[i]) {
			at[i] = -1
		}
	}
	slices.SortStableFunc(fit, func(i, j int) int { return cmp.Compare(at[i], at[j]) })
	return fit
}

// why says for which of its qualities a device is taken.
func (l *Lineup) why(d *Standing) string {
	if slices.Contains(l.Pin, d.Name) {
		return "pinned"
	}
	var words []string
	for _, f := range l.First {
		switch f {
		case NewestOS:
			words = append(words, SystemName(d.Platform, d.OS))
		case NewestModel:
			if d.Released > 0 {
				words = append(words, fmt.Sprintf("out since %d", d.Released))
			}
		case LeastUsed:
			words = append(words, fmt.Sprintf("used %d times", d.Used))
		case Spread:
			words = append(words, d.Model)
		}
	}
	return strings.Join(words, ", ")
}
