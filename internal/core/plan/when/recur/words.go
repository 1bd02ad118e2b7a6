package recur

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Words says a rule as people do: "every day at 02:00", "every second Monday and Friday at 06:30". start is its first
// day. It gives "" for a rule that is not said shorter than it is written.
func (r *Rule) Words(start time.Time) string {
	if len(r.weeks) > 0 || len(r.yearDays) > 0 || len(r.positions) > 0 {
		return ""
	}
	c := r.from(start)
	days, ok := c.dayWords()
	if !ok {
		return ""
	}
	at, ok := c.timeWords()
	if !ok {
		return ""
	}
	words := days + at
	switch {
	case r.Count == 1:
		words += ", once"
	case r.Count > 1:
		words += fmt.Sprintf(", %d times", r.Count)
	}
	if r.Until != nil {
		words += ", until " + r.Until.At.Format("2 January 2006")
	}
	return words
}

// dayWords says on which days.
func (c *reckoning) dayWords() (string, bool) {
	every := func(one string) string {
		switch c.Interval {
		case 1:
			return "every " + one
		case 2:
			return "every second " + one
		}
		return fmt.Sprintf("every %d %ss", c.Interval, one)
	}
	months := ""
	if len(c.Rule.months) > 0 {
		months = " in " + List(names(c.Rule.months, func(m int) string { return time.Month(m).String() }))
	}
	weekdays, plain := "", true
	var names7 []time.Weekday
	for _, d := range c.days {
		plain = plain && d.number == 0
		names7 = append(names7, d.day)
	}
	if len(names7) > 0 {
		weekdays = WeekdayWords(names7)
	}
	switch {
	case c.Freq == Hourly:
		if len(c.days) > 0 || len(c.monthDays) > 0 || months != "" {
			return "", false
		}
		return every("hour"), true
	case c.Freq == Daily && len(c.days) == 0 && len(c.monthDays) == 0:
		return every("day") + months, true
	case (c.Freq == Weekly || c.Freq == Daily && c.Interval == 1) && len(c.monthDays) == 0 && plain && len(c.days) > 0:
		if c.Interval == 1 {
			return "every " + weekdays + months, true
		}
		return every("week") + " on " + weekdays + months, true
	case c.Freq == Monthly && len(c.days) == 0 && c.ordinary():
		return every("month") + " on the " + List(names(c.monthDays, ordinal)) + months, true
	case c.Freq == Monthly && len(c.monthDays) == 0 && len(c.days) == 1 && c.days[0].number != 0 &&
		c.days[0].number >= -1 && c.days[0].number <= 5:
		return every("month") + " on the " + ordinal(c.days[0].number) + " " + c.days[0].day.String() + months, true
	case c.Freq == Yearly && len(c.days) == 0 && len(c.months) == 1 && c.ordinary():
		return every("year") + " on the " + List(names(c.monthDays, ordinal)) + " of " +
			time.Month(c.months[0]).String(), true
	}
	return "", false
}

// ordinary tells whether days of months are counted from the beginning, or the last.
func (c *reckoning) ordinary() bool {
	return len(c.monthDays) > 0 && !slices.ContainsFunc(c.monthDays, func(d int) bool { return d < -1 })
}

// timeWords says at which times of a day.
func (c *reckoning) timeWords() (string, bool) {
	if c.Freq == Hourly {
		if len(c.Rule.hours) > 0 || len(c.minutes) != 1 {
			return "", false
		}
		if c.minutes[0] == 0 {
			return "", true
		}
		return fmt.Sprintf(" at %d past", c.minutes[0]), true
	}
	if len(c.hours)*len(c.minutes) > 4 {
		return "", false
	}
	var times []string
	for _, h := range c.hours {
		for _, m := range c.minutes {
			times = append(times, fmt.Sprintf("%02d:%02d", h, m))
		}
	}
	return " at " + List(times), true
}

func names(list []int, name func(int) string) []string {
	out := make([]string, len(list))
	for i, n := range slices.Sorted(slices.Values(list)) {
		out[i] = name(n)
	}
	return out
}

// ordinal is 1st, 22nd, or last for -1.
func ordinal(n int) string {
	if n == -1 {
		return "last"
	}
	end := "th"
	if n%100 < 11 || n%100 > 13 {
		end = map[int]string{1: "st", 2: "nd", 3: "rd"}[n%10]
		if end == "" {
			end = "th"
		}
	}
	return strconv.Itoa(n) + end
}

// WeekdayWords says days of the week, from Monday on: "working day" for Monday to Friday.
func WeekdayWords(days []time.Weekday) string {
	fromMonday := func(d time.Weekday) int { return (int(d) + 6) % 7 }
	days = slices.Compact(slices.SortedFunc(slices.Values(days),
		func(a, b time.Weekday) int { return fromMonday(a) - fromMonday(b) }))
	switch {
	case len(days) == 7:
		return "day"
	case len(days) == 5 && fromMonday(days[4]) == 4:
		return "day from Monday to Friday"
	}
	var out []string
	for _, d := range days {
		out = append(out, d.String())
	}
	return List(out)
}

// List joins words: a, b and c.
func List(words []string) string {
	if n := len(words); n > 1 {
		return strings.Join(words[:n-1], ", ") + " and " + words[n-1]
	}
	return strings.Join(words, "")
}
