package recur

import (
	"slices"
	"time"
)

// maxSteps bounds what one question costs: periods that are gone through.
const maxSteps = 400_000

// reckoning is a rule with its first day, and what follows from both.
type reckoning struct {
	*Rule
	start     time.Time
	months    []int
	monthDays []int
	days      []weekday
	hours     []int
	minutes   []int
}

// from fills in what the rule leaves to its first day (RFC 5545, 3.3.10: "information not specified is taken from
// DTSTART").
func (r *Rule) from(start time.Time) *reckoning {
	c := &reckoning{Rule: r, start: start, months: r.months, monthDays: r.monthDays, days: r.days, hours: r.hours,
		minutes: r.minutes}
	if len(r.weeks)+len(r.yearDays)+len(r.monthDays)+len(r.days) == 0 {
		switch r.Freq {
		case Yearly:
			if len(r.months) == 0 {
				c.months = []int{int(start.Month())}
			}
			c.monthDays = []int{start.Day()}
		case Monthly:
			c.monthDays = []int{start.Day()}
		case Weekly:
			c.days = []weekday{{day: start.Weekday()}}
		}
	}
	if len(c.hours) == 0 && r.Freq > Hourly {
		c.hours = []int{start.Hour()}
	}
	if len(c.minutes) == 0 {
		c.minutes = []int{start.Minute()}
	}
	c.hours, c.minutes = slices.Sorted(slices.Values(c.hours)), slices.Sorted(slices.Values(c.minutes))
	return c
}

// Next gives the first moment of a rule that begins at start, after another and not after last; zero where there is
// none. All are wall times at full minutes.
func (r *Rule) Next(start, after, last time.Time) time.Time {
	c := r.from(start)
	if r.Until != nil && !r.Until.UTC && r.Until.At.Before(last) {
		last = r.Until.At
	}
	period := c.first()
	if r.Count == 0 && after.After(start) { // those before are not gone through
		period = c.near(period, after)
	}
	counted := 0
	for range maxSteps {
		if period.After(last) {
			return time.Time{}
		}
		for _, at := range c.within(period) {
			if at.Before(start) {
				continue
			}
			if counted++; r.Count > 0 && counted > r.Count || at.After(last) {
				return time.Time{}
			}
			if at.After(after) {
				return at
			}
		}
		period = c.step(period)
	}
	return time.Time{}
}

// first is the period that the start lies in.
func (c *reckoning) first() time.Time {
	s := c.start
	day := time.Date(s.Year(), s.Month(), s.Day(), 0, 0, 0, 0, time.UTC)
	switch c.Freq {
	case Hourly:
		return s.Truncate(time.Hour)
	case Weekly:
		return day.AddDate(0, 0, -int((7+s.Weekday()-c.weekStart)%7))
	case Monthly:
		return day.AddDate(0, 0, 1-s.Day())
	case Yearly:
		return time.Date(s.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
	}
	return day
}

// step is the next period that counts.
func (c *reckoning) step(period time.Time) time.Time {
	switch c.Freq {
	case Hourly:
		next := period.Add(time.Duration(c.Interval) * time.Hour)
		if !c.has(period) { // the rest of a day that is none need not be gone through
			end := time.Date(period.Year(), period.Month(), period.Day(), 24, 0, 0, 0, time.UTC)
			if ahead := end.Sub(next); ahead > 0 {
				hours := time.Duration(c.Interval) * time.Hour
				next = next.Add((ahead + hours - 1) / hours * hours)
			}
		}
		return next
	case Weekly:
		return period.AddDate(0, 0, 7*c.Interval)
	case Monthly:
		return period.AddDate(0, c.Interval, 0)
	case Yearly:
		return period.AddDate(c.Interval, 0, 0)
	}
	return period.AddDate(0, 0, c.Interval)
}

// near is the last period that counts with nothing after a moment in it, counted on from the first.
func (c *reckoning) near(first, after time.Time) time.Time {
	whole := func(unit time.Duration) int {
		return max(0, int(after.Sub(first)/unit)-2*c.Interval) / c.Interval * c.Interval
	}
	switch c.Freq {
	case Hourly:
		return first.Add(time.Duration(whole(time.Hour)) * time.Hour)
	case Weekly:
		return first.AddDate(0, 0, 7*whole(7*24*time.Hour))
	case Monthly:
		months := (after.Year()-first.Year())*12 + int(after.Month()-first.Month())
		return first.AddDate(0, max(0, months-2*c.Interval)/c.Interval*c.Interval, 0)
	case Yearly:
		return first.AddDate(max(0, after.Year()-first.Year()-2*c.Interval)/c.Interval*c.Interval, 0, 0)
	}
	return first.AddDate(0, 0, whole(24*time.Hour))
}

// within gives the moments of a period, in order.
func (c *reckoning) within(period time.Time) (out []time.Time) {
	var days []time.Time
	hours := c.hours
	switch c.Freq {
	case Hourly:
		if c.has(period) && (len(hours) == 0 || slices.Contains(hours, period.Hour())) {
			days = []time.Time{time.Date(period.Year(), period.Month(), period.Day(), 0, 0, 0, 0, time.UTC)}
			hours = []int{period.Hour()}
		}
	case Daily:
		days = c.chosen(period, period.AddDate(0, 0, 1))
	case Weekly:
		days = c.chosen(period, period.AddDate(0, 0, 7))
	case Monthly:
		days = c.chosen(period, period.AddDate(0, 1, 0))
	case Yearly:
		days = c.chosen(period, period.AddDate(1, 0, 0))
	}
	for _, d := range days {
		for _, h := range hours {
			for _, m := range c.minutes {
				out = append(out, d.Add(time.Duration(h)*time.Hour+time.Duration(m)*time.Minute))
			}
		}
	}
	if len(c.positions) == 0 {
		return out
	}
	var some []time.Time
	for _, p := range c.positions {
		if p < 0 {
			p += len(out) + 1
		}
		if p >= 1 && p <= len(out) {
			some = append(some, out[p-1])
		}
	}
	slices.SortFunc(some, time.Time.Compare)
	return slices.Compact(some)
}

func (c *reckoning) chosen(from, to time.Time) (out []time.Time) {
	for d := from; d.Before(to); d = d.AddDate(0, 0, 1) {
		if c.has(d) {
			out = append(out, d)
		}
	}
	return out
}

// has tells whether a day is one of the rule's.
func (c *reckoning) has(d time.Time) bool {
	year, month, day := d.Date()
	inMonth := time.Date(year, month+1, 0, 0, 0, 0, 0, time.UTC).Day()
	inYear := time.Date(year, 12, 31, 0, 0, 0, 0, time.UTC).YearDay()
	among := func(list []int, n, of int) bool {
		return len(list) == 0 || slices.Contains(list, n) || slices.Contains(list, n-of-1)
	}
	return (len(c.months) == 0 || slices.Contains(c.months, int(month))) && c.inWeek(d) &&
		among(c.yearDays, d.YearDay(), inYear) && among(c.monthDays, day, inMonth) && c.onDay(d, inMonth, inYear)
}

// inWeek tells whether a day lies in a week of the rule's: the first of a year is the first with four days in it.
func (c *reckoning) inWeek(d time.Time) bool {
	if len(c.weeks) == 0 {
		return true
	}
	n, of := c.weekOf(d, d.Year())
	return n >= 1 && n <= of && (slices.Contains(c.weeks, n) || slices.Contains(c.weeks, n-of-1))
}

// weekOf gives the number of a day's week as counted in a year, and how many weeks that year has.
func (c *reckoning) weekOf(d time.Time, year int) (n, of int) {
	first := func(year int) time.Time {
		fourth := time.Date(year, 1, 4, 0, 0, 0, 0, time.UTC)
		return fourth.AddDate(0, 0, -int((7+fourth.Weekday()-c.weekStart)%7))
	}
	begin, next := first(year), first(year+1)
	switch {
	case d.Before(begin): // it lies in the last week of the year before
		begin, next = first(year-1), begin
	case !d.Before(next):
		begin, next = next, first(year+2)
	}
	of = int(next.Sub(begin) / (7 * 24 * time.Hour))
	return int(d.Sub(begin)/(7*24*time.Hour)) + 1, of
}

// onDay tells whether a day is one of the rule's days of the week, by their numbers in the month or the year.
func (c *reckoning) onDay(d time.Time, inMonth, inYear int) bool {
	if len(c.days) == 0 {
		return true
	}
	at, of := d.Day(), inMonth
	if c.Freq == Yearly && len(c.Rule.months) == 0 {
		at, of = d.YearDay(), inYear
	}
	return slices.ContainsFunc(c.days, func(w weekday) bool {
		return w.day == d.Weekday() && (w.number == 0 || w.number == (at-1)/7+1 || w.number == -((of-at)/7+1))
	})
}

// InHour gives the minutes of an hour, by what clocks show then, that a rule of hours has; none where the hour is none
// of its. For hours that are counted as they pass, and not as clocks show them.
func (r *Rule) InHour(start, wall time.Time) []int {
	c := r.from(start)
	if !c.has(wall) {
		return nil
	}
	var out []int
	for _, at := range c.within(wall.Truncate(time.Hour)) {
		out = append(out, at.Minute())
	}
	return out
}
