// Package recur reads recurrence rules and reckons their moments (RFC 5545, 3.3.10), in wall time: what clocks show, as
// if it were UTC. What is asked for costs a bounded number of steps, whatever the rule.
package recur

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Freq is how long a period of a rule is.
type Freq int

// The periods, from the shortest. Plans start at full minutes, so that there are none of minutes and seconds.
const (
	Hourly Freq = iota
	Daily
	Weekly
	Monthly
	Yearly
)

var freqs = map[string]Freq{"HOURLY": Hourly, "DAILY": Daily, "WEEKLY": Weekly, "MONTHLY": Monthly, "YEARLY": Yearly}

// weekday is a day of the week, with its number in the month or year; 0 for all of them.
type weekday struct {
	number int
	day    time.Weekday
}

// Until is where a rule ends: with the last second that may still be one of its moments.
type Until struct {
	At  time.Time // in wall time, or in UTC
	UTC bool
}

// Rule is a recurrence rule that has been read.
type Rule struct {
	Freq      Freq
	Interval  int
	Count     int    // 0 for without end
	Until     *Until // nil for without end
	months    []int
	weeks     []int
	yearDays  []int
	monthDays []int
	days      []weekday
	hours     []int
	minutes   []int
	positions []int
	weekStart time.Weekday
}

// Hours tells whether the rule names hours of the day.
func (r *Rule) Hours() bool { return len(r.hours) > 0 }

// Bounds of a rule, beside those of the standard.
const (
	maxCount    = 100_000
	maxInterval = 10_000
	maxList     = 400
)

var dayNames = []string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}

// Parse reads a rule. What the standard forbids is refused, in words: nothing is taken for something else.
func Parse(text string) (*Rule, error) {
	r := &Rule{Freq: -1, Interval: 1, weekStart: time.Monday}
	seen := map[string]bool{}
	for _, part := range strings.Split(strings.ToUpper(strings.TrimSpace(text)), ";") {
		key, value, ok := strings.Cut(part, "=")
		if !ok || value == "" {
			return nil, fmt.Errorf("%q is no part of a rule; parts are written as in FREQ=DAILY", part)
		}
		if seen[key] {
			return nil, fmt.Errorf("%s is given twice", key)
		}
		seen[key] = true
		if err := r.part(key, value); err != nil {
			return nil, err
		}
	}
	return r, r.check(seen)
}

func (r *Rule) part(key, value string) (err error) {
	list := func(into *[]int, low, high int, negative bool) error {
		for _, word := range strings.Split(value, ",") {
			n, err := number(word)
			size := n
			if negative && n < 0 {
				size = -n
			}
			if err != nil || size < low || size > high || low > 0 && n == 0 {
				return fmt.Errorf("%s has numbers from %d to %d, not %q", key, low, high, word)
			}
			if !slices.Contains(*into, n) {
				*into = append(*into, n)
			}
			if len(*into) > maxList {
				return fmt.Errorf("%s names too much", key)
			}
		}
		return nil
	}
	switch key {
	case "FREQ":
		f, ok := freqs[value]
		if !ok && (value == "MINUTELY" || value == "SECONDLY") {
			return fmt.Errorf("a recurrence is of hours or longer, not %s", value)
		} else if !ok {
			return fmt.Errorf("FREQ is HOURLY, DAILY, WEEKLY, MONTHLY or YEARLY, not %q", value)
		}
		r.Freq = f
	case "INTERVAL":
		r.Interval, err = between(key, value, maxInterval)
	case "COUNT":
		r.Count, err = between(key, value, maxCount)
	case "UNTIL":
		r.Until, err = until(value)
	case "BYMONTH":
		err = list(&r.months, 1, 12, false)
	case "BYWEEKNO":
		err = list(&r.weeks, 1, 53, true)
	case "BYYEARDAY":
		err = list(&r.yearDays, 1, 366, true)
	case "BYMONTHDAY":
		err = list(&r.monthDays, 1, 31, true)
	case "BYHOUR":
		err = list(&r.hours, 0, 23, false)
	case "BYMINUTE":
		err = list(&r.minutes, 0, 59, false)
	case "BYSECOND":
		if value != "0" {
			err = fmt.Errorf("plans start at full minutes: leave BYSECOND out")
		}
	case "BYSETPOS":
		err = list(&r.positions, 1, 366, true)
	case "BYDAY":
		for _, word := range strings.Split(value, ",") {
			d, err := readDay(word)
			if err != nil {
				return err
			}
			if r.days = append(r.days, d); len(r.days) > maxList {
				return fmt.Errorf("%s names too much", key)
			}
		}
	case "WKST":
		at := slices.Index(dayNames, value)
		if at < 0 {
			return fmt.Errorf("WKST is a day of the week such as MO, not %q", value)
		}
		r.weekStart = time.Weekday(at)
	default:
		return fmt.Errorf("%q is no part of a rule (RFC 5545, 3.3.10)", key)
	}
	return err
}

func number(word string) (int, error) {
	if word == "" || len(word) > 6 {
		return 0, strconv.ErrSyntax
	}
	return strconv.Atoi(word)
}

func between(key, value string, most int) (int, error) {
	n, err := number(value)
	if err != nil || n < 1 || n > most || value[0] == '+' {
		return 0, fmt.Errorf("%s is a number from 1 to %d, not %q", key, most, value)
	}
	return n, nil
}

func readDay(word string) (weekday, error) {
	wrong := fmt.Errorf("BYDAY names days such as MO, or 2MO and -1FR, not %q", word)
	if len(word) < 2 {
		return weekday{}, wrong
	}
	at := slices.Index(dayNames, word[len(word)-2:])
	d := weekday{day: time.Weekday(at)}
	if at < 0 {
		return d, wrong
	}
	if ordinal := word[:len(word)-2]; ordinal != "" {
		n, err := number(ordinal)
		if err != nil || n == 0 || n < -53 || n > 53 {
			return d, wrong
		}
		d.number = n
	}
	return d, nil
}

// until reads where a rule ends: a day, all of which belongs to it, or a time, in UTC where it ends in Z.
func until(value string) (*Until, error) {
	for form, u := range map[string]Until{"20060102": {}, "20060102T150405": {}, "20060102T150405Z": {UTC: true}} {
		at, err := time.Parse(form, value)
		if err != nil {
			continue
		}
		if at.Year() < 2000 || at.Year() > 2200 {
			return nil, fmt.Errorf("UNTIL is between 2000 and 2200")
		}
		if form == "20060102" {
			at = at.Add(24*time.Hour - time.Second)
		}
		return &Until{At: at, UTC: u.UTC}, nil
	}
	return nil, fmt.Errorf("UNTIL is written as in 20261231 or 20261231T180000Z, not %q", value)
}

// check refuses what the standard does, of parts together.
func (r *Rule) check(seen map[string]bool) error {
	numbered := slices.ContainsFunc(r.days, func(d weekday) bool { return d.number != 0 })
	by := 0
	for key := range seen {
		if strings.HasPrefix(key, "BY") && key != "BYSETPOS" {
			by++
		}
	}
	switch {
	case r.Freq < 0:
		return fmt.Errorf("it does not say how often: begin with FREQ=DAILY")
	case r.Count > 0 && r.Until != nil:
		return fmt.Errorf("COUNT and UNTIL do not go together")
	case numbered && r.Freq < Monthly:
		return fmt.Errorf("numbers before days of the week are for MONTHLY and YEARLY")
	case numbered && len(r.weeks) > 0:
		return fmt.Errorf("numbers before days of the week do not go with BYWEEKNO")
	case len(r.weeks) > 0 && r.Freq != Yearly:
		return fmt.Errorf("BYWEEKNO is for YEARLY")
	case len(r.monthDays) > 0 && r.Freq == Weekly:
		return fmt.Errorf("BYMONTHDAY does not go with WEEKLY")
	case len(r.yearDays) > 0 && (r.Freq == Daily || r.Freq == Weekly || r.Freq == Monthly):
		return fmt.Errorf("BYYEARDAY is for YEARLY and HOURLY")
	case len(r.positions) > 0 && by == 0:
		return fmt.Errorf("BYSETPOS takes another BY… part, of which it chooses")
	}
	return nil
}
