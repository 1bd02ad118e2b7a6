package fleet

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Use is a rule for who may use a device, and when.
type Use struct {
	People []string `json:"people,omitempty"` // and nobody else; none: everybody
	Hours  string   `json:"hours,omitempty"`  // "Mon-Fri 09:00-18:00"; "" for always
	Zone   string   `json:"zone,omitempty"`   // of the IANA database; "" for UTC
}

var weekdays = []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

// hours is a parsed rule: from the first to the last day, from a minute of the
// day to another.
type hours struct {
	first, last int
	from, to    int
}

// Check tells what is wrong with a rule.
func (u Use) Check() error {
	if _, err := time.LoadLocation(u.Zone); err != nil {
		return fmt.Errorf("there is no time zone %q", u.Zone)
	}
	_, err := parseHours(u.Hours)
	return err
}

func parseHours(text string) (hours, error) {
	h := hours{0, 6, 0, 24 * 60}
	if text == "" {
		return h, nil
	}
	wrong := fmt.Errorf("hours are written as in Mon-Fri 09:00-18:00, not %q", text)
	days, clock, ok := strings.Cut(strings.TrimSpace(text), " ")
	first, last, span := strings.Cut(days, "-")
	if !span {
		last = first
	}
	h.first, h.last = slices.Index(weekdays, first), slices.Index(weekdays, last)
	from, to, ok2 := strings.Cut(clock, "-")
	if !ok || !ok2 || h.first < 0 || h.last < 0 {
		return h, wrong
	}
	for text, into := range map[string]*int{from: &h.from, to: &h.to} {
		at, err := time.Parse("15:04", text)
		if err != nil {
			return h, wrong
		}
		*into = at.Hour()*60 + at.Minute()
	}
	return h, nil
}

// Open tells whether a device may be used at a moment, by its hours alone.
func (u Use) Open(now time.Time) bool {
	if u.Hours == "" {
		return true
	}
	h, err := parseHours(u.Hours)
	zone, err2 := time.LoadLocation(u.Zone)
	if err != nil || err2 != nil {
		return false
	}
	local := now.In(zone)
	minute := local.Hour()*60 + local.Minute()
	today := int(local.Weekday())
	if h.from <= h.to {
		return within(today, h.first, h.last) && minute >= h.from && minute < h.to
	}
	// Over midnight: the small hours belong to the day before.
	return minute >= h.from && within(today, h.first, h.last) || minute < h.to && within((today+6)%7, h.first, h.last)
}

func within(day, first, last int) bool {
	if first <= last {
		return day >= first && day <= last
	}
	return day >= first || day <= last
}

// For gives whom a device of an owner is for at a moment, or that it is for
// anybody. Its owner always may.
func (u Use) For(owner string, now time.Time) (people []string, anybody bool) {
	if owner != "" {
		people = []string{owner}
	}
	switch {
	case !u.Open(now):
		return people, false
	case len(u.People) > 0:
		return append(people, u.People...), false
	}
	return nil, true
}

// Admits gives why somebody may not use d at a moment, false where they may.
func (d Device) Admits(who string, now time.Time) (Reason, bool) {
	if people, anybody := d.Use.For(d.Owner, now); anybody || who != "" && slices.Contains(people, who) {
		return Reason{}, true
	}
	if len(d.Use.People) > 0 && !slices.Contains(d.Use.People, who) {
		return because("only "+strings.Join(d.Use.People, ", ")+" may use it",
			"ask "+orTeam(d.Owner)+" to be let in"), false
	}
	return because("it may be used "+d.Use.Hours+" only", "wait until then, or ask "+orTeam(d.Owner)), false
}

func orTeam(owner string) string {
	if owner == "" {
		return "who looks after the site"
	}
	return owner
}
