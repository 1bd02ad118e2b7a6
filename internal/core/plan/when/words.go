package when

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/plan/when/recur"
)

// Words says when moments come as people do, with the zone: "every day at 02:00, Lisbon". What has no such words is
// told as it is written.
func (m *Moments) Words(w When) string {
	words := ""
	switch {
	case m.rule != nil:
		if words = m.rule.Words(m.start); words == "" {
			words = w.Repeat
		}
	case m.cron != nil:
		if words = cronWords(strings.Fields(w.Cron)); words == "" {
			words = "cron " + w.Cron
		}
	default:
		return ""
	}
	return words + ", " + place(m.zone)
}

// place is a zone as people name it: the last part of its name.
func place(zone *time.Location) string {
	name := zone.String()
	if name == "" {
		return "UTC"
	}
	return strings.ReplaceAll(name[strings.LastIndex(name, "/")+1:], "_", " ")
}

// cronWords says the common forms of cron fields, "" for others.
func cronWords(f []string) string {
	if len(f) != 5 || f[3] != "*" {
		return ""
	}
	minute, err := strconv.Atoi(f[0])
	if step, ok := strings.CutPrefix(f[0], "*/"); ok && f[1] == "*" && f[2] == "*" && f[4] == "*" {
		if n, err := strconv.Atoi(step); err == nil && n > 0 && 60%n == 0 {
			return fmt.Sprintf("every %d minutes", n)
		}
		return ""
	}
	if err != nil {
		return ""
	}
	if f[1] == "*" && f[2] == "*" && f[4] == "*" {
		if minute == 0 {
			return "every hour"
		}
		return fmt.Sprintf("every hour at %d past", minute)
	}
	var times []string
	for h := range strings.SplitSeq(f[1], ",") {
		hour, err := strconv.Atoi(h)
		if err != nil {
			return ""
		}
		times = append(times, fmt.Sprintf("%02d:%02d", hour, minute))
	}
	if len(times) > 4 {
		return ""
	}
	slices.Sort(times)
	at := " at " + recur.List(times)
	switch {
	case f[2] == "*" && f[4] == "*":
		return "every day" + at
	case f[2] == "*":
		if days := cronDays(f[4]); len(days) > 0 {
			return "every " + recur.WeekdayWords(days) + at
		}
	case f[4] == "*":
		if day, err := strconv.Atoi(f[2]); err == nil {
			return fmt.Sprintf("every month on day %d%s", day, at)
		}
	}
	return ""
}

// cronDays reads a field of days of the week: numbers, names, and spans of them.
func cronDays(field string) (days []time.Weekday) {
	one := func(s string) (int, bool) {
		if n, err := strconv.Atoi(s); err == nil && n >= 0 && n <= 7 {
			return n, true
		}
		n := slices.Index([]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}, strings.ToLower(s))
		return n, n >= 0
	}
	for part := range strings.SplitSeq(field, ",") {
		from, to, span := strings.Cut(part, "-")
		a, ok := one(from)
		b := a
		if span && ok {
			b, ok = one(to)
		}
		if !ok {
			return nil
		}
		if b < a {
			b += 7
		}
		for d := a; d <= b; d++ {
			days = append(days, time.Weekday(d%7))
		}
	}
	return days
}
