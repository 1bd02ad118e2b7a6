// Package recurtest makes recurrence rules at random, for tests.
package recurtest

import (
	"fmt"
	"slices"
	"strings"
)

// Rule makes a rule, a function of chance alone, which is given as numbers below another. Some have parts that do not
// go together, or never come.
func Rule(intN func(int) int) string {
	freq := []string{"HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY"}[intN(5)]
	out := []string{"FREQ=" + freq}
	part := func(name string, chance int, one func() string) {
		if intN(chance) > 0 {
			return
		}
		var list []string
		for range 1 + intN(3) {
			if next := one(); !slices.Contains(list, next) {
				list = append(list, next)
			}
		}
		out = append(out, name+"="+strings.Join(list, ","))
	}
	of := func(low, high int, negative bool) func() string {
		return func() string {
			n := low + intN(high-low+1)
			if negative && n != 0 && intN(3) == 0 {
				n = -n
			}
			return fmt.Sprint(n)
		}
	}
	if intN(2) == 0 {
		out = append(out, fmt.Sprintf("INTERVAL=%d", 1+intN(5)))
	}
	part("BYMONTH", 4, of(1, 12, false))
	if freq == "YEARLY" {
		// of the first week counted from behind the other knows no day of the year before
		part("BYWEEKNO", 5, of(1, 51, true))
	}
	if freq == "YEARLY" || freq == "HOURLY" {
		part("BYYEARDAY", 6, of(1, 366, true))
	}
	if freq != "WEEKLY" {
		part("BYMONTHDAY", 4, of(1, 31, true))
	}
	numbered := (freq == "MONTHLY" || freq == "YEARLY") && !strings.Contains(strings.Join(out, ";"), "BYWEEKNO")
	// numbered days and others together the implementation that is compared with takes for both, and not for either
	numbered = numbered && intN(2) == 0
	part("BYDAY", 3, func() string {
		day := []string{"MO", "TU", "WE", "TH", "FR", "SA", "SU"}[intN(7)]
		if numbered {
			return of(1, 5, true)() + day
		}
		return day
	})
	part("BYHOUR", 2, of(0, 23, false))
	part("BYMINUTE", 3, of(0, 59, false))
	if strings.Contains(strings.Join(out[1:], ";"), "BY") {
		part("BYSETPOS", 5, of(1, 4, true))
	}
	if intN(4) == 0 {
		out = append(out, "WKST="+[]string{"MO", "SU", "TH"}[intN(3)])
	}
	if intN(5) == 0 {
		out = append(out, fmt.Sprintf("COUNT=%d", 1+intN(60)))
	}
	return strings.Join(out, ";")
}
