package recur_test

import (
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/teambition/rrule-go"

	"yamato/internal/core/plan/when/recur"
	"yamato/internal/core/plan/when/recur/recurtest"
)

// Another implementation of the standard, which is not bounded, is asked the same.
func TestMomentsAgreeWithAnotherImplementation(t *testing.T) {
	r := rand.New(rand.NewPCG(5545, 3))
	compared, never := 0, 0
	rules := 1_500
	if n, err := strconv.Atoi(os.Getenv("YAMATO_TRIALS")); err == nil {
		rules = n
	}
	for range rules {
		text := recurtest.Rule(r.IntN)
		if strings.Contains(text, "WEEKLY") && strings.Contains(text, "BYSETPOS") {
			continue // of the first week the other takes what is left of it for all of it
		}
		start := time.Date(2020+r.IntN(10), time.Month(1+r.IntN(12)), 1+r.IntN(28), r.IntN(24), r.IntN(60), 0, 0,
			time.UTC)
		rule, err := recur.Parse(text)
		require.NoError(t, err, text)
		last := start.AddDate(40, 0, 0)
		var got []time.Time
		for after := start.Add(-time.Minute); len(got) < 12; {
			next := rule.Next(start, after, last)
			if next.IsZero() {
				break
			}
			got, after = append(got, next), next
		}
		if len(got) == 0 { // the other would look until the year 9999
			never++
			continue
		}
		o, err := rrule.StrToROption(text)
		require.NoError(t, err, text)
		o.Dtstart, o.Bysecond = start, []int{0}
		if o.Count == 0 {
			o.Until = last
			if len(got) == 12 {
				o.Count = 12
				o.Until = time.Time{}
			}
		}
		other, err := rrule.NewRRule(*o)
		require.NoError(t, err, text)
		var want []time.Time
		next := other.Iterator()
		for len(want) < len(got) {
			at, more := next()
			if !more {
				break
			}
			want = append(want, at)
		}
		require.Equal(t, want, got, "%s from %s", text, start)
		compared++
	}
	t.Logf("%d rules compared, %d that never come", compared, never)
	require.Greater(t, compared, rules*7/10)
}

// Where the look begins does not matter.
func TestALookFromLateInARuleFindsWhatOneFromItsBeginningDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(5545, 4))
	start := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	for range 500 {
		text := recurtest.Rule(r.IntN)
		rule, err := recur.Parse(text)
		require.NoError(t, err)
		last := start.AddDate(20, 0, 0)
		after := start.Add(-time.Minute)
		for range 40 {
			next := rule.Next(start, after, last)
			if next.IsZero() {
				break
			}
			require.Equal(t, next, rule.Next(start, next.Add(-time.Minute), last), "%s", text)
			after = next
		}
	}
}
