package when

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"yamato/internal/core/plan/when/recur/recurtest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func read(t require.TestingT, w When) *Moments {
	m, f := w.Read()
	if f != nil {
		require.Fail(t, f.Message)
	}
	return m
}

func at(t require.TestingT, text string) time.Time {
	out, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return out.UTC()
}

// Checked by hand against the zones' published changes of 2026 and 2028.
func TestMomentsAreThoseThatClocksShow(t *testing.T) {
	for _, c := range []struct {
		when  When
		after string
		next  []string
	}{
		{When{Repeat: "FREQ=DAILY;BYHOUR=2", Zone: "Europe/Lisbon"}, "2026-03-27T12:00:00Z",
			[]string{"2026-03-28T02:00:00Z", "2026-03-29T01:00:00Z", "2026-03-30T01:00:00Z"}},
		{When{Repeat: "FREQ=DAILY;BYHOUR=1;BYMINUTE=30", Zone: "Europe/Lisbon"}, "2026-03-28T12:00:00Z",
			[]string{"2026-03-29T01:30:00Z", "2026-03-30T00:30:00Z"}}, // skipped: at the offset before
		{When{Cron: "30 1 * * *", Zone: "Europe/Lisbon"}, "2026-03-28T12:00:00Z",
			[]string{"2026-03-29T01:30:00Z", "2026-03-30T00:30:00Z"}},
		{When{Repeat: "FREQ=DAILY;BYHOUR=1;BYMINUTE=30", Zone: "Europe/Lisbon"}, "2026-10-24T12:00:00Z",
			[]string{"2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}}, // shown twice: once, the first time
		{When{Cron: "30 1 * * *", Zone: "Europe/Lisbon"}, "2026-10-24T12:00:00Z",
			[]string{"2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}},
		{When{Cron: "30 2 * * *", Zone: "America/New_York"}, "2026-03-07T12:00:00Z",
			[]string{"2026-03-08T07:30:00Z", "2026-03-09T06:30:00Z"}},
		{When{Repeat: "FREQ=WEEKLY;BYDAY=SU;BYHOUR=1;BYMINUTE=30", Zone: "America/New_York"}, "2026-10-30T00:00:00Z",
			[]string{"2026-11-01T05:30:00Z", "2026-11-08T06:30:00Z"}},
		{When{Cron: "15 2 * * *", Zone: "Australia/Lord_Howe"}, "2026-10-03T00:00:00Z",
			[]string{"2026-10-03T15:45:00Z", "2026-10-04T15:15:00Z"}}, // half an hour is skipped
		{When{Cron: "45 1 * * *", Zone: "Australia/Lord_Howe"}, "2026-04-04T00:00:00Z",
			[]string{"2026-04-04T14:45:00Z", "2026-04-05T15:15:00Z"}},
		{When{Cron: "0 * * * *", Zone: "Europe/Lisbon"}, "2026-10-24T23:30:00Z",
			[]string{"2026-10-25T00:00:00Z", "2026-10-25T01:00:00Z", "2026-10-25T02:00:00Z"}}, // hours as they pass
		{When{Repeat: "FREQ=HOURLY;INTERVAL=5", Zone: "UTC", From: "2026-01-01"}, "2026-01-02T00:00:00Z",
			[]string{"2026-01-02T01:00:00Z", "2026-01-02T06:00:00Z"}},
		{When{Repeat: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;BYHOUR=6", Zone: "Asia/Tokyo"}, "2026-01-01T00:00:00Z",
			[]string{"2028-02-28T21:00:00Z", "2032-02-28T21:00:00Z"}},
		{When{Cron: "0 0 29 2 *"}, "2026-01-01T00:00:00Z", []string{"2028-02-29T00:00:00Z"}},
		{When{Repeat: "FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=18", Zone: "Europe/Lisbon"}, "2026-01-01T00:00:00Z",
			[]string{"2026-01-30T18:00:00Z", "2026-02-27T18:00:00Z", "2026-03-27T18:00:00Z", "2026-04-24T17:00:00Z"}},
		{When{Repeat: "FREQ=DAILY;COUNT=2;BYHOUR=9", From: "2026-05-01"}, "2026-05-01T10:00:00Z",
			[]string{"2026-05-02T09:00:00Z", ""}},
		{When{Repeat: "FREQ=HOURLY;BYMINUTE=0", Zone: "Asia/Kolkata"}, "2026-05-01T00:05:00Z",
			[]string{"2026-05-01T00:30:00Z", "2026-05-01T01:30:00Z"}}, // full hours there are half ones elsewhere
		{When{Repeat: "FREQ=HOURLY;BYDAY=SU", Zone: "Asia/Tokyo"}, "2026-05-01T00:00:00Z",
			[]string{"2026-05-02T15:00:00Z", "2026-05-02T16:00:00Z"}},
		{When{Repeat: "FREQ=DAILY;BYHOUR=9;UNTIL=20260502"}, "2026-05-01T00:00:00Z", // all of that day belongs to it
			[]string{"2026-05-01T09:00:00Z", "2026-05-02T09:00:00Z", ""}},
		{When{Repeat: "FREQ=DAILY;BYHOUR=9;UNTIL=20260502T000000Z", Zone: "Asia/Tokyo"}, "2026-05-01T00:00:00Z",
			[]string{"2026-05-02T00:00:00Z", ""}}, // 09:00 there
		{When{Repeat: "rrule:freq=daily;byhour=2"}, "2026-05-01T00:00:00Z", []string{"2026-05-01T02:00:00Z"}},
		// 01:00 and 01:30 are skipped
		{When{Repeat: "FREQ=DAILY;BYHOUR=1,2;BYMINUTE=0,30", Zone: "Europe/Lisbon"}, "2026-03-29T00:59:00Z",
			[]string{"2026-03-29T01:00:00Z", "2026-03-29T01:30:00Z", "2026-03-30T00:00:00Z"}},
		// 02:20 is skipped, and 02:45 is not
		{When{Repeat: "FREQ=DAILY;BYHOUR=1,2;BYMINUTE=45,20", Zone: "Australia/Lord_Howe"}, "2026-10-03T14:00:00Z",
			[]string{"2026-10-03T14:50:00Z", "2026-10-03T15:15:00Z", "2026-10-03T15:45:00Z", "2026-10-03T15:50:00Z"}},
		{When{Cron: "0 0 * * 7"}, "2026-05-01T00:00:00Z", []string{"2026-05-03T00:00:00Z"}},
		{When{Cron: "0 0 * * FRI-MON"}, "2026-05-01T12:00:00Z", // a Friday
			[]string{"2026-05-02T00:00:00Z", "2026-05-03T00:00:00Z", "2026-05-04T00:00:00Z", "2026-05-08T00:00:00Z"}},
		// odd days that are Mondays
		{When{Cron: "0 0 */2 * 1"}, "2026-05-01T12:00:00Z", []string{"2026-05-11T00:00:00Z", "2026-05-25T00:00:00Z"}},
		// either
		{When{Cron: "0 0 13 * 5"}, "2026-05-01T12:00:00Z", []string{"2026-05-08T00:00:00Z", "2026-05-13T00:00:00Z"}},
		// a Friday
		{When{Cron: "0 12 * * *", Zone: "UTC", Only: []string{"Mon-Fri 20:00-06:00"}}, "2026-01-02T00:00:00Z",
			[]string{"2026-01-02T20:00:00Z", "2026-01-05T20:00:00Z", "2026-01-06T20:00:00Z"}},
		{When{Cron: "*/5 * * * *", Zone: "UTC", Never: []string{"00:00-23:55", "Sat,Sun"}}, "2026-01-02T23:50:00Z",
			[]string{"2026-01-02T23:55:00Z", "2026-01-05T23:55:00Z"}},
	} {
		m := read(t, c.when)
		after := at(t, c.after)
		for _, want := range c.next {
			got := m.Next(after)
			if want == "" {
				require.True(t, got.IsZero(), "%+v: %s", c.when, got)
				continue
			}
			require.Equal(t, want, got.Format(time.RFC3339), "%+v", c.when)
			after = got
		}
	}
}

// Against an implementation that walks minute by minute through what clocks show.
func TestDailyMomentsAgreeWithClocksWalkedThrough(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		zone := rapid.SampledFrom([]string{"Europe/Lisbon", "America/New_York", "Australia/Lord_Howe", "Asia/Tokyo",
			"Africa/Casablanca", "America/St_Johns", "Pacific/Apia"}).Draw(t, "zone")
		hour, minute := rapid.IntRange(0, 23).Draw(t, "hour"), rapid.IntRange(0, 11).Draw(t, "five minutes")*5
		day := time.Date(2026, time.Month(rapid.IntRange(1, 12).Draw(t, "month")), rapid.IntRange(1, 28).Draw(t, "day"),
			0, 0, 0, 0, time.UTC)
		loc, err := time.LoadLocation(zone)
		require.NoError(t, err)
		until := day.Add(6 * 24 * time.Hour)
		var want []time.Time
		last := ""
		for at := day.Add(-48 * time.Hour); !at.After(until.Add(3 * time.Hour)); at = at.Add(5 * time.Minute) {
			l := at.In(loc)
			date := l.Format(time.DateOnly)
			shown := l.Hour()*60 + l.Minute()
			_, now := l.Zone()
			_, before := at.Add(-5 * time.Minute).In(loc).Zone()
			wanted := hour*60 + minute
			hit := shown == wanted
			if skip := (now - before) / 60; skip > 0 && wanted >= shown-skip && wanted < shown { // skipped just now
				at := at.Add(time.Duration(wanted-(shown-skip)) * time.Minute)
				want, last = append(want, at), date
				continue
			}
			if hit && date != last {
				want, last = append(want, at), date
			}
		}
		for _, w := range []When{{Cron: fmt.Sprintf("%d %d * * *", minute, hour), Zone: zone},
			{Repeat: fmt.Sprintf("FREQ=DAILY;BYHOUR=%d;BYMINUTE=%d", hour, minute), Zone: zone}} {
			got := read(t, w).Between(day, until, 100)
			var due []time.Time
			for _, at := range want {
				if at.After(day) && !at.After(until) {
					due = append(due, at)
				}
			}
			require.Equal(t, fmt.Sprint(due), fmt.Sprint(got), "%+v", w)
		}
	})
}

func TestWhatWasMissedIsStartedAsAsked(t *testing.T) {
	m := read(t, When{Cron: "0 2 * * *"})
	now := at(t, "2026-03-10T02:03:00Z")
	moments := m.Between(at(t, "2026-03-07T02:00:00Z"), now, 100)
	require.Len(t, moments, 3)
	for missed, n := range map[string][2]int{"": {1, 2}, None: {1, 2}, Once: {1, 2}, All: {3, 0}} {
		start, passed := Due(moments, now, missed)
		require.Len(t, start, n[0], missed)
		require.Len(t, passed, n[1], missed)
	}
	start, passed := Due(moments[:2], now, Once)
	require.Equal(t, moments[1:2], start, "the last of those that were missed")
	require.Equal(t, moments[:1], passed)
	start, passed = Due(moments[:2], now, None)
	require.Empty(t, start)
	require.Len(t, passed, 2)
}

func TestWhatIsNoMomentIsRefusedWithItsField(t *testing.T) {
	for says, w := range map[string]When{
		"zone: there is no time zone":         {Zone: "Sora/Harbour"},
		"repeat: the recurrence cannot be":    {Repeat: "FREQ=NEVER"},
		"recurrence is of hours":              {Repeat: "FREQ=SECONDLY"},
		"FREQ is given twice":                 {Repeat: "FREQ=DAILY;FREQ=DAILY"},
		"INTERVAL is a number from 1":         {Repeat: "FREQ=DAILY;INTERVAL=0"},
		"COUNT is a number from 1":            {Repeat: "FREQ=DAILY;COUNT=-1", From: "2026-01-05"},
		"numbers before days of the week are": {Repeat: "FREQ=WEEKLY;BYDAY=2MO"},
		"BYWEEKNO is for YEARLY":              {Repeat: "FREQ=MONTHLY;BYWEEKNO=3"},
		"COUNT and UNTIL do not":              {Repeat: "FREQ=DAILY;COUNT=3;UNTIL=20270101", From: "2026-01-05"},
		"BYSETPOS takes another":              {Repeat: "FREQ=DAILY;BYSETPOS=1"},
		"\"X-ODD\" is no part":                {Repeat: "FREQ=DAILY;X-ODD=1"},
		"BYHOUR has numbers from 0 to 23":     {Repeat: "FREQ=DAILY;BYHOUR=24"},
		"nine years from 2024-01-01":          {Repeat: "FREQ=HOURLY;INTERVAL=3;BYHOUR=5"},
		"nine years from 2026-01-05":          {Repeat: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", From: "2026-01-05"},
		"no moment of these cron fields":      {Cron: "0 0 30 2 *"},
		"\"8\" is no day of the week":         {Cron: "0 0 * * 8"},
		"cron: cron has five fields, not 3":   {Cron: "0 2 *"},
		"cron: the cron fields cannot":        {Cron: "61 2 * * *"},
		"cron: cron has five fields, not 1":   {Cron: "@daily"},
		"cron: a plan has a recurrence or":    {Repeat: "FREQ=DAILY", Cron: "0 2 * * *"},
		"from: a recurrence that is counted":  {Repeat: "FREQ=DAILY;COUNT=3"},
		"from: \"tomorrow\" is no day":        {From: "tomorrow"},
		"only: \"at night\" is no window":     {Only: []string{"at night"}},
		"only: \"Mo-Fr\" is no window":        {Only: []string{"Mo-Fr"}},
		"only: \"25:00-26:00\" has a time":    {Only: []string{"25:00-26:00"}},
		"never: the windows leave no moment":  {Never: []string{"Mon-Sun"}},
		"busy: `busy` is leave out, wait":     {Busy: "shrug"},
		"missed: `missed` is none, once, all": {Missed: "some"},
		"after: it is not said after which":   {After: &After{}},
		"after: \"fine\" is no verdict":       {After: &After{Plan: "x", Verdict: []string{"fine"}}},
		"repeat: a recurrence is one line":    {Repeat: "FREQ=DAILY\nDTSTART=20260101T000000Z"},
	} {
		_, f := w.Read()
		require.NotNil(t, f, says)
		require.Contains(t, f.Field+": "+f.Message, says)
	}
	m := read(t, When{Never: []string{"Sat-Sun"}})
	require.True(t, m.Next(anchor).IsZero(), "it starts when somebody starts it")
	open, err := m.Opens(at(t, "2026-01-03T10:00:30Z"))
	require.NoError(t, err)
	require.Equal(t, "2026-01-05T00:00:00Z", open.Format(time.RFC3339))
}

// What comes round in any zone goes on, and has no moment twice, wherever its clocks are set forward or back.
func TestMomentsGoOnInEveryZone(t *testing.T) {
	zones := zonesOf(t)
	r := rand.New(rand.NewPCG(24, 19))
	for i := range 600 {
		rule, zone := recurtest.Rule(r.IntN), zones[i%len(zones)]
		m, f := When{Repeat: rule, Zone: zone}.Read()
		if f != nil {
			continue
		}
		after := time.Date(2026, time.Month(1+r.IntN(12)), 1+r.IntN(28), r.IntN(24), 0, 0, 0, time.UTC)
		for range 20 {
			next := m.Next(after)
			if next.IsZero() {
				break
			}
			require.True(t, next.After(after), "%s in %s", rule, zone)
			require.Zero(t, next.Second(), "%s in %s", rule, zone)
			after = next
		}
	}
}

// zonesOf lists the zones of the machine's database, or some where it has none.
func zonesOf(t *testing.T) (out []string) {
	t.Helper()
	const root = "/usr/share/zoneinfo"
	_ = filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		name := strings.TrimPrefix(path, root+"/")
		if err != nil || e.IsDir() || strings.HasPrefix(name, "posix") || strings.HasPrefix(name, "right") ||
			!strings.Contains(name, "/") {
			return nil
		}
		if _, err := time.LoadLocation(name); err == nil {
			out = append(out, name)
		}
		return nil
	})
	return append(out, "UTC", "Australia/Lord_Howe", "Europe/Lisbon", "Asia/Kathmandu", "America/St_Johns")
}

func FuzzRecurrencesEndWithinBounds(f *testing.F) {
	f.Add("FREQ=DAILY;BYHOUR=2", "0 2 * * *", "Europe/Lisbon")
	f.Add("FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30", "* * * * *", "Asia/Tokyo")
	f.Add("FREQ=HOURLY;INTERVAL=3;BYHOUR=5", "0 0 */2 * 8", "Asia/Kolkata")
	f.Add("FREQ=DAILY;INTERVAL=10000;BYMONTH=2;BYMONTHDAY=29;COUNT=100000", "1 1 1 1 7", "UTC")
	f.Add("FREQ=YEARLY;BYYEARDAY=366;BYSETPOS=-1", "*/7 1-5 31 * 5", "UTC")
	f.Fuzz(func(t *testing.T, rule, fields, zone string) {
		for _, w := range []When{{Repeat: rule, Zone: zone}, {Cron: fields, Zone: zone}} {
			if m, f := w.Read(); f == nil {
				after := time.Date(2026, 3, 28, 0, 0, 0, 0, time.UTC)
				for range 3 {
					next := m.Next(after)
					if next.IsZero() {
						break
					}
					require.True(t, next.After(after))
					after = next
				}
			}
		}
	})
}

func ExampleMoments_Next() {
	m, _ := When{Repeat: "FREQ=DAILY;BYHOUR=2", Zone: "Europe/Lisbon"}.Read()
	after := time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC)
	for range 2 { // the clocks are put forward on the 29th
		after = m.Next(after)
		fmt.Println(after.Format(time.RFC3339), after.In(m.Zone()).Format("15:04"))
	}
	// Output:
	// 2026-03-29T01:00:00Z 02:00
	// 2026-03-30T01:00:00Z 02:00
}
