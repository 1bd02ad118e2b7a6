// Package when tells at which moments a plan starts: recurrences in a time zone, windows in which
// it may start and must not, and what becomes of moments that passed while nothing was up. Time is
// a value here: nothing reads a clock.
//
// It promises that a moment that the clocks skip is taken at the offset before they did (RFC 5545,
// 3.3.5: 02:30 becomes 03:30), one that they show twice is taken once, the first time; and that what
// is asked for costs a bounded time, whatever the rule.
package when

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"yamato/internal/core/fleet"
	"yamato/internal/core/plan/when/recur"
)

// When is what people write of the moments.
type When struct {
	Repeat string      `yaml:"repeat,omitempty" json:"repeat,omitempty"` // RFC 5545, 3.3.10: FREQ=DAILY;BYHOUR=2
	Cron   string      `yaml:"cron,omitempty" json:"cron,omitempty"`     // five fields
	Zone   string      `yaml:"zone,omitempty" json:"zone,omitempty"`     // of the IANA database
	From   string      `yaml:"from,omitempty" json:"from,omitempty"`     // a day, from which a recurrence is counted
	After  *After      `yaml:"after,omitempty" json:"after,omitempty"`
	Only   fleet.Words `yaml:"only,omitempty" json:"only,omitempty"`   // windows: "Mon-Fri 20:00-06:00"
	Never  fleet.Words `yaml:"never,omitempty" json:"never,omitempty"` // windows
	Busy   string      `yaml:"busy,omitempty" json:"busy,omitempty"`
	Missed string      `yaml:"missed,omitempty" json:"missed,omitempty"`
}

// After starts a plan when another has ended.
type After struct {
	Plan    string      `yaml:"plan" json:"plan"`
	Verdict fleet.Words `yaml:"verdict,omitempty" json:"verdict,omitempty"` // any of these; none for any
}

// What happens when the last run still runs.
const (
	LeaveOut = "leave out"
	Wait     = "wait"
	TakeOver = "take over"
)

// What happens to starts that were missed while nothing was up.
const (
	None = "none"
	Once = "once"
	All  = "all"
)

// Fault is what is wrong, and at which field.
type Fault struct{ Field, Message, Hint string }

func (f *Fault) Error() string { return f.Message }

func fault(field, hint, format string, args ...any) *Fault {
	return &Fault{field, fmt.Sprintf(format, args...), hint}
}

// Moments are the moments of a When that has been read.
type Moments struct {
	zone        *time.Location
	rule        *recur.Rule
	start       time.Time // of the rule, in wall time
	exact       bool      // the rule counts hours as they pass, and not as clocks show them
	cron        cron.Schedule
	cronExact   bool
	only, never []window
}

// anchor is the day from which recurrences are counted where none is given: a Monday.
var anchor = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)

// horizon is how far ahead is looked: leap days are at most eight years apart.
const horizon = 9 * 366 * 24 * time.Hour

// Read reads what people wrote.
func (w When) Read() (*Moments, *Fault) {
	m := &Moments{zone: time.UTC}
	if w.Zone != "" {
		zone, err := time.LoadLocation(w.Zone)
		if err != nil || w.Zone == "Local" || len(w.Zone) > 60 {
			return nil, fault("zone", "write it as in Europe/Lisbon", "there is no time zone %q", w.Zone)
		}
		m.zone = zone
	}
	if w.Repeat != "" && w.Cron != "" {
		return nil, fault("cron", "keep one of the two", "a plan has a recurrence or cron fields, and not both")
	}
	from := anchor
	if w.From != "" {
		day, err := time.Parse(time.DateOnly, w.From)
		if err != nil || day.Year() < 2000 || day.Year() > 2200 {
			return nil, fault("from", "write it as in 2026-01-05", "%q is no day", w.From)
		}
		from = day
	}
	if f := m.readRule(w, from); f != nil {
		return nil, f
	}
	if f := m.readCron(w.Cron); f != nil {
		return nil, f
	}
	var f *Fault
	if m.only, f = windows("only", w.Only); f != nil {
		return nil, f
	}
	if m.never, f = windows("never", w.Never); f != nil {
		return nil, f
	}
	if (len(m.only) > 0 || len(m.never) > 0) && m.opens(time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC)).IsZero() {
		return nil, fault("never", "widen `only`, or narrow `never`",
			"the windows leave no moment in which it may start")
	}
	for field, word := range map[string]struct {
		is    string
		known []string
	}{"busy": {w.Busy, []string{"", LeaveOut, Wait, TakeOver}}, "missed": {w.Missed, []string{"", None, Once, All}}} {
		if !slices.Contains(word.known, word.is) {
			return nil, fault(field, "", "`%s` is %s, not %q", field, strings.Join(word.known[1:], ", "), word.is)
		}
	}
	if w.After != nil {
		if strings.TrimSpace(w.After.Plan) == "" {
			return nil, fault("after", "write `after: {plan: …}`", "it is not said after which plan")
		}
		for _, v := range w.After.Verdict {
			if !slices.Contains([]string{"pass", "fail", "error", "skip", "none"}, v) {
				return nil, fault("after", "verdicts are pass, fail, error, skip and none", "%q is no verdict", v)
			}
		}
	}
	return m, nil
}

func (m *Moments) readRule(w When, from time.Time) *Fault {
	if w.Repeat == "" {
		return nil
	}
	text := strings.TrimSpace(w.Repeat)
	if len(text) >= len(rulePrefix) && strings.EqualFold(text[:len(rulePrefix)], rulePrefix) {
		text = text[len(rulePrefix):]
	}
	if len(text) > 500 || strings.ContainsAny(text, "\r\n") || strings.Contains(strings.ToUpper(text), "DTSTART") {
		return fault("repeat", "write it as in FREQ=DAILY;BYHOUR=2",
			"a recurrence is one line of at most 500 characters")
	}
	rule, err := recur.Parse(text)
	if err != nil {
		return fault("repeat", "write it as in FREQ=DAILY;BYHOUR=2 (RFC 5545, 3.3.10)", "the recurrence cannot be: %v",
			err)
	}
	if rule.Count > 0 && w.From == "" {
		return fault("from", "add `from: 2026-01-05`", "a recurrence that is counted needs a first day")
	}
	m.rule, m.start, m.exact = rule, from, rule.Freq == recur.Hourly && !rule.Hours()
	if m.nextOfRule(m.instant(from).Add(-time.Second)).IsZero() {
		return fault("repeat", "see whether its parts go together, and UNTIL lies after the first day",
			"no moment of this recurrence comes in the nine years from %s", from.Format(time.DateOnly))
	}
	return nil
}

const rulePrefix = "RRULE:"

func (m *Moments) readCron(text string) *Fault {
	if text == "" {
		return nil
	}
	fields := strings.Fields(text)
	if len(fields) != 5 || len(text) > 200 || strings.ContainsAny(text, "@=") {
		return fault("cron", `as in "0 2 * * *": minute, hour, day, month, day of the week`,
			"cron has five fields, not %d", len(fields))
	}
	s, err := readFields(fields)
	if err != nil {
		return fault("cron", `as in "0 2 * * *": minute, hour, day, month, day of the week`,
			"the cron fields cannot be read: %v", err)
	}
	// what runs every hour, or each some hours, goes by the hours that pass
	m.cron, m.cronExact = s, strings.HasPrefix(fields[1], "*")
	if m.nextAsked(anchor).IsZero() {
		return fault("cron", "see whether its day and month go together", "no moment of these cron fields ever comes")
	}
	return nil
}

// ByTime tells whether moments come round at all.
func (m *Moments) ByTime() bool { return m.rule != nil || m.cron != nil }

// Zone is the time zone of the moments.
func (m *Moments) Zone() *time.Location { return m.zone }

// instant gives the moment at which clocks show a wall time: the first of two, and where they skip
// it, at the offset before.
func (m *Moments) instant(wall time.Time) time.Time {
	offset := func(at time.Time) time.Duration {
		_, seconds := at.In(m.zone).Zone()
		return time.Duration(seconds) * time.Second
	}
	const apart = 26 * time.Hour // more than any zone is from UTC, twice
	before, after := wall.Add(-offset(wall.Add(-apart))), wall.Add(-offset(wall.Add(apart)))
	shows := func(at time.Time) bool { return m.wall(at).Equal(wall) }
	switch {
	case shows(before) && shows(after) && after.Before(before):
		return after
	case shows(before) || !shows(after):
		return before
	}
	return after
}

// wall gives what clocks show at a moment, as if it were UTC.
func (m *Moments) wall(at time.Time) time.Time {
	l := at.In(m.zone)
	return time.Date(l.Year(), l.Month(), l.Day(), l.Hour(), l.Minute(), l.Second(), l.Nanosecond(), time.UTC)
}

// nextAsked gives the first moment after another that the recurrence has, whatever the windows; zero where
// none comes within the horizon.
func (m *Moments) nextAsked(after time.Time) time.Time {
	switch {
	case m.rule != nil:
		return m.nextOfRule(after)
	case m.cron != nil && m.cronExact:
		return bounded(m.cron.Next(after.In(m.zone)), after)
	case m.cron != nil:
		return bounded(m.earliest(after, m.cron.Next), after)
	}
	return time.Time{}
}

// earliest gives the first moment after another of what next gives in wall time. An occurrence that clocks show twice
// is one, and one that they skip is not lost: it may come after others that are later by the clocks.
func (m *Moments) earliest(after time.Time, next func(wall time.Time) time.Time) time.Time {
	const slack = 3 * time.Hour // more than clocks are ever set by
	best, end := time.Time{}, time.Time{}
	wall := m.wall(after).Add(-slack)
	for range 10_000 {
		if wall = next(wall); wall.IsZero() || !end.IsZero() && wall.After(end) {
			break
		}
		at := m.instant(wall)
		if !at.After(after) {
			continue
		}
		if best.IsZero() {
			end = wall.Add(slack)
		}
		if best.IsZero() || at.Before(best) {
			best = at
		}
	}
	return best
}

func bounded(at, after time.Time) time.Time {
	if at.IsZero() || at.Sub(after) > horizon {
		return time.Time{}
	}
	return at.UTC()
}

func (m *Moments) nextOfRule(after time.Time) time.Time {
	at := time.Time{}
	if m.exact {
		at = m.nextHour(after)
	} else {
		last := m.wall(after).Add(horizon)
		if m.start.After(m.wall(after)) {
			last = m.start.Add(horizon)
		}
		at = m.earliest(after, func(wall time.Time) time.Time { return m.rule.Next(m.start, wall, last) })
	}
	if u := m.rule.Until; u != nil && u.UTC && at.After(u.At) {
		return time.Time{}
	}
	if at.IsZero() {
		return at
	}
	return at.UTC()
}

// nextHour gives the first moment after another of a rule that counts hours as they pass: its days and minutes are
// those that clocks show in each of these hours.
func (m *Moments) nextHour(after time.Time) time.Time {
	begin := m.instant(m.start)
	step := time.Duration(m.rule.Interval) * time.Hour
	hour, counted := begin, 0
	if gone := after.Sub(begin) - 48*time.Hour; m.rule.Count == 0 && gone > 0 { // those before are not gone through
		hour = hour.Add(gone / step * step)
	}
	end := begin
	if after.After(begin) {
		end = after
	}
	for end = end.Add(horizon); hour.Before(end); hour = hour.Add(step) {
		wall := m.wall(hour)
		for _, minute := range m.rule.InHour(m.start, wall) {
			at := hour.Add(time.Duration(minute-wall.Minute()) * time.Minute)
			if at.Before(begin) {
				continue
			}
			counted++
			if u := m.rule.Until; m.rule.Count > 0 && counted > m.rule.Count || u != nil && !u.UTC &&
				m.wall(at).After(u.At) {
				return time.Time{}
			}
			if at.After(after) {
				return at
			}
		}
	}
	return time.Time{}
}

// Next gives the first moment after another at which the plan starts: what falls where it must not
// start does so when the window opens. It is zero where none comes.
func (m *Moments) Next(after time.Time) time.Time {
	if !m.ByTime() {
		return time.Time{}
	}
	best := time.Time{}
	// what was asked for before may have been put off until after
	from := after
	if len(m.only) > 0 || len(m.never) > 0 {
		from = after.Add(-8 * 24 * time.Hour)
	}
	for range 100_000 {
		asked := m.nextAsked(from)
		if asked.IsZero() {
			break
		}
		at := m.opens(asked)
		if at.After(after) {
			best = at
			break
		}
		// all that is asked for until the window opens starts then: it is one start
		if from = asked; at.After(asked) {
			from = at
		}
	}
	return best
}

// Between gives the moments after one and up to another, in order, at most most of them.
func (m *Moments) Between(after, until time.Time, most int) (out []time.Time) {
	for len(out) < most {
		next := m.Next(after)
		if next.IsZero() || next.After(until) {
			break
		}
		out = append(out, next)
		after = next
	}
	return out
}

// Due is what is to be started of the moments between the last look and now: at is empty where
// nothing is; missed are those that are let go.
func Due(moments []time.Time, now time.Time, missed string) (start, passed []time.Time) {
	for _, at := range moments {
		if now.Sub(at) <= Lateness {
			start = append(start, at)
		} else {
			passed = append(passed, at)
		}
	}
	switch missed {
	case All:
		start, passed = append(passed, start...), nil
	case Once:
		if len(start) == 0 && len(passed) > 0 {
			start, passed = passed[len(passed)-1:], passed[:len(passed)-1]
		}
	}
	return start, passed
}

// Lateness is how late a start may be that is not called missed.
const Lateness = 10 * time.Minute

// window is a time of the week: on some days, from one minute of the day to another, on the next day
// where that is no later.
type window struct {
	days     [7]bool // from Sunday on
	from, to int
}

var windowForm = regexp.MustCompile(`^(?:([A-Z][a-z]{2}(?:[-,][A-Z][a-z]{2})*))?\s*(?:(\d\d):(\d\d)-(\d\d):(\d\d))?$`)

var dayNames = []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

const maxWindows = 50

func windows(field string, list []string) (out []window, _ *Fault) {
	const hint = `as in "Mon-Fri 20:00-06:00", "Sat,Sun" or "09:00-17:00"`
	if len(list) > maxWindows {
		return nil, fault(field, "", "there are at most %d windows", maxWindows)
	}
	for _, text := range list {
		parts := windowForm.FindStringSubmatch(strings.TrimSpace(text))
		if parts == nil || parts[1] == "" && parts[2] == "" {
			return nil, fault(field, hint, "%q is no window", text)
		}
		w := window{to: 24 * 60}
		if parts[1] == "" {
			w.days = [7]bool{true, true, true, true, true, true, true}
		}
		for _, span := range strings.Split(parts[1], ",") {
			if span == "" {
				continue
			}
			ends := strings.Split(span, "-")
			first, last := slices.Index(dayNames, ends[0]), slices.Index(dayNames, ends[len(ends)-1])
			if first < 0 || last < 0 || len(ends) > 2 {
				return nil, fault(field, hint, "%q names no days of the week", text)
			}
			for d := first; ; d = (d + 1) % 7 {
				if w.days[d] = true; d == last {
					break
				}
			}
		}
		if parts[2] != "" {
			n := [4]int{}
			for i := range n {
				n[i], _ = strconv.Atoi(parts[2+i]) // the form has it two digits
			}
			if n[0] > 23 || n[1] > 59 || n[2] > 24 || n[3] > 59 || n[2] == 24 && n[3] > 0 {
				return nil, fault(field, hint, "%q has a time that no clock shows", text)
			}
			w.from, w.to = n[0]*60+n[1], n[2]*60+n[3]
			if w.from == w.to {
				return nil, fault(field, hint, "%q ends when it begins", text)
			}
		}
		out = append(out, w)
	}
	return out, nil
}

// holds tells whether clocks that show a wall time are within the window.
func (w window) holds(wall time.Time) bool {
	day, minute := int(wall.Weekday()), wall.Hour()*60+wall.Minute()
	if w.from < w.to {
		return w.days[day] && minute >= w.from && minute < w.to
	}
	return w.days[day] && minute >= w.from || w.days[(day+6)%7] && minute < w.to
}

// May tells whether a plan may start at a moment.
func (m *Moments) May(at time.Time) bool {
	wall := m.wall(at)
	in := func(list []window) bool {
		return slices.ContainsFunc(list, func(w window) bool { return w.holds(wall) })
	}
	return (len(m.only) == 0 || in(m.only)) && !in(m.never)
}

// opens gives the first moment, not before another, at which a plan may start: full minutes are
// looked at, of a little more than a week. It is zero where none is.
func (m *Moments) opens(at time.Time) time.Time {
	if m.May(at) {
		return at
	}
	for minute := at.Truncate(time.Minute).Add(time.Minute); minute.Sub(at) < 9*24*time.Hour; minute = minute.Add(time.Minute) {
		if m.May(minute) {
			return minute
		}
	}
	return time.Time{}
}

// Opens is opens for who starts a plan for another reason than the time.
func (m *Moments) Opens(at time.Time) (time.Time, error) {
	if open := m.opens(at); !open.IsZero() {
		return open, nil
	}
	return time.Time{}, errors.New("no window opens within a week")
}
