package when

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Cron fields as crontab(5) reads them, where the package that computes their moments does not: Sunday is 0 and 7, a
// range of days of the week may go over the week's end, and a day field that begins with a star restricts, and does not
// add to, the other one.

// readFields reads five fields.
func readFields(fields []string) (cron.Schedule, error) {
	week, err := weekField(fields[4])
	if err != nil {
		return nil, err
	}
	of := func(day, week string) (cron.Schedule, error) {
		return cron.ParseStandard(strings.Join([]string{fields[0], fields[1], day, fields[3], week}, " "))
	}
	stepped := func(field string) bool { return strings.HasPrefix(field, "*/") }
	if day := fields[2]; (stepped(day) || stepped(fields[4])) && day != "*" && week != "*" {
		byDay, err := of(day, "*")
		if err != nil {
			return nil, err
		}
		byWeek, err := of("*", week)
		if err != nil {
			return nil, err
		}
		return both{byDay, byWeek}, nil
	}
	return of(fields[2], week)
}

// both has the moments that two schedules share.
type both struct{ a, b cron.Schedule }

func (s both) Next(after time.Time) time.Time {
	for range 10_000 {
		a, b := s.a.Next(after), s.b.Next(after)
		switch {
		case a.IsZero() || b.IsZero():
			return time.Time{}
		case a.Equal(b):
			return a
		case a.Before(b):
			after = b.Add(-time.Second)
		default:
			after = a.Add(-time.Second)
		}
	}
	return time.Time{}
}

var weekNames = map[string]int{"SUN": 0, "MON": 1, "TUE": 2, "WED": 3, "THU": 4, "FRI": 5, "SAT": 6}

// weekField writes the days of the week as numbers from 0 to 6.
func weekField(field string) (string, error) {
	if strings.HasPrefix(field, "*") || field == "?" {
		return field, nil
	}
	day := func(word string) (int, error) {
		if n, ok := weekNames[strings.ToUpper(word)]; ok {
			return n, nil
		}
		n, err := strconv.Atoi(word)
		if err != nil || n < 0 || n > 7 || len(word) > 1 {
			return 0, fmt.Errorf("%q is no day of the week: 0 to 7, or SUN to SAT", word)
		}
		return n, nil
	}
	var out []string
	for _, part := range strings.Split(field, ",") {
		span, stepText, stepped := strings.Cut(part, "/")
		from, to, ranged := strings.Cut(span, "-")
		first, err := day(from)
		if err != nil {
			return "", err
		}
		last := first
		if ranged {
			if last, err = day(to); err != nil {
				return "", err
			}
		} else if stepped {
			last = 6
		}
		step := 1
		if stepped {
			if step, err = strconv.Atoi(stepText); err != nil || step < 1 || step > 7 {
				return "", fmt.Errorf("%q is no step of days", stepText)
			}
		}
		if last < first { // over the week's end
			last += 7
		}
		for d := first; d <= last; d += step {
			out = append(out, strconv.Itoa(d%7))
		}
	}
	return strings.Join(out, ","), nil
}
