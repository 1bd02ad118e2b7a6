package when

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestMomentsAreSaidAsPeopleDo(t *testing.T) {
	for _, c := range []struct {
		when When
		want string
	}{
		{When{Repeat: "FREQ=DAILY;BYHOUR=2", Zone: "Europe/Lisbon"}, "every day at 02:00, Lisbon"},
		{When{Repeat: "freq=daily;interval=2;byhour=6,18;byminute=30"}, "every second day at 06:30 and 18:30, UTC"},
		{When{Repeat: "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=7", Zone: "America/New_York"},
			"every day from Monday to Friday at 07:00, New York"},
		{When{Repeat: "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR,MO;BYHOUR=9"},
			"every second week on Monday and Friday at 09:00, UTC"},
		{When{Repeat: "FREQ=WEEKLY", From: "2026-01-06"}, "every Tuesday at 00:00, UTC"},
		{When{Repeat: "FREQ=DAILY;BYDAY=SA,SU;BYHOUR=8"}, "every Saturday and Sunday at 08:00, UTC"},
		{When{Repeat: "FREQ=MONTHLY;BYMONTHDAY=1,15,-1;BYHOUR=4"},
			"every month on the last, 1st and 15th at 04:00, UTC"},
		{When{Repeat: "FREQ=MONTHLY;BYDAY=2TU;BYHOUR=4"}, "every month on the 2nd Tuesday at 04:00, UTC"},
		{When{Repeat: "FREQ=MONTHLY;INTERVAL=3;BYDAY=-1FR;BYHOUR=22"},
			"every 3 months on the last Friday at 22:00, UTC"},
		{When{Repeat: "FREQ=YEARLY;BYMONTH=11;BYMONTHDAY=3;BYHOUR=0"},
			"every year on the 3rd of November at 00:00, UTC"},
		{When{Repeat: "FREQ=HOURLY;INTERVAL=6"}, "every 6 hours, UTC"},
		{When{Repeat: "FREQ=HOURLY;BYMINUTE=20"}, "every hour at 20 past, UTC"},
		{When{Repeat: "FREQ=DAILY;COUNT=3;BYHOUR=1", From: "2026-01-05"}, "every day at 01:00, 3 times, UTC"},
		{When{Repeat: "FREQ=DAILY;UNTIL=20271231;BYHOUR=1"}, "every day at 01:00, until 31 December 2027, UTC"},
		{When{Repeat: "FREQ=DAILY;BYMONTH=1,7;BYHOUR=1"}, "every day in January and July at 01:00, UTC"},
		// What has no short words stays as it is written.
		{When{Repeat: "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;BYHOUR=1"},
			"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;BYHOUR=1, UTC"},
		{When{Repeat: "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO;BYHOUR=1"}, "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO;BYHOUR=1, UTC"},
		{When{Repeat: "FREQ=DAILY;BYHOUR=1,2,3,4,5"}, "FREQ=DAILY;BYHOUR=1,2,3,4,5, UTC"},
		{When{Repeat: "FREQ=MONTHLY;BYDAY=MO;BYHOUR=1"}, "FREQ=MONTHLY;BYDAY=MO;BYHOUR=1, UTC"},
		{When{Cron: "0 2 * * *", Zone: "Europe/Lisbon"}, "every day at 02:00, Lisbon"},
		{When{Cron: "30 6 * * 1-5"}, "every day from Monday to Friday at 06:30, UTC"},
		{When{Cron: "0 6 * * FRI-MON"}, "every Monday, Friday, Saturday and Sunday at 06:00, UTC"},
		{When{Cron: "0 8,20 * * 7"}, "every Sunday at 08:00 and 20:00, UTC"},
		{When{Cron: "*/15 * * * *"}, "every 15 minutes, UTC"},
		{When{Cron: "5 * * * *"}, "every hour at 5 past, UTC"},
		{When{Cron: "0 4 1 * *"}, "every month on day 1 at 04:00, UTC"},
		{When{Cron: "*/7 * * * *"}, "cron */7 * * * *, UTC"},
		{When{Cron: "0 4 1 * 1"}, "cron 0 4 1 * 1, UTC"},
		{When{Cron: "0 */6 * * *"}, "cron 0 */6 * * *, UTC"},
		{When{}, ""},
	} {
		m, f := c.when.Read()
		require.Nil(t, f, "%+v: %v", c.when, f)
		require.Equal(t, c.want, m.Words(c.when))
	}
}
