package script

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/verdict"
)

// film is a device on which a stopwatch runs, every tick, beside what at gives.
func film(tick, length time.Duration, at func(now time.Duration) []*screen.Node) *paper {
	p := &paper{}
	for now := time.Duration(0); now <= length; now += tick {
		watch := el("timer", "watch", fmt.Sprintf("%.2f", now.Seconds()), 700)
		p.moments = append(p.moments, moment{now, shows(append([]*screen.Node{watch}, at(now)...)...)})
	}
	return p
}

func TestAStopwatchInACornerKeepsNoStepWaiting(t *testing.T) {
	quiet := film(80*time.Millisecond, time.Minute, func(time.Duration) []*screen.Node {
		return []*screen.Node{el("button", "go", "Go", 10)}
	})
	var steps []string
	for range 40 {
		steps = append(steps, `expect "Go"`)
	}
	r := judge(t, quiet, "", steps...)
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	require.Less(t, r.TookMS, int64(15_000), "forty looks do not run into the case's limit")
}

func TestAToastIsSeenWhileItIsThereThoughAStopwatchRuns(t *testing.T) {
	toast := func(now time.Duration) []*screen.Node {
		if now > 500*time.Millisecond && now < 3*time.Second {
			return []*screen.Node{el("status", "toast", "Saved", 10)}
		}
		return nil
	}
	require.Equal(t, verdict.Pass, judge(t, film(50*time.Millisecond, 20*time.Second, toast), "",
		`expect "Saved"`).Verdict)
	r := judge(t, film(50*time.Millisecond, 20*time.Second, toast), `"Saved"`, `expect "Saved"`, `expect no "Saved"`,
		`expect "Saved"`)
	require.Equal(t, verdict.Fail, r.Verdict)
	require.Contains(t, r.Failure.Actual, "it is not there any more: it was shown for 2.5 s")
}

func TestAStopwatchItselfCanBeWaitedFor(t *testing.T) {
	still := func(time.Duration) []*screen.Node { return nil }
	require.Equal(t, verdict.Pass, judge(t, film(50*time.Millisecond, 20*time.Second, still), "",
		`expect number in #watch >= 2`).Verdict)
	r := judge(t, film(50*time.Millisecond, 20*time.Second, still), "", `expect number in #watch = 2`)
	require.Equal(t, verdict.Fail, r.Verdict, "a figure that it only passes is none that it shows")
}

func TestAListThatIsBeingFilledHasNotSettled(t *testing.T) {
	filling := func(now time.Duration) (rows []*screen.Node) {
		for i := range min(int(now/(150*time.Millisecond)), 12) {
			rows = append(rows, el("listitem", "", fmt.Sprintf("row %d", i), float64(30*i)))
		}
		return rows
	}
	r := judge(t, film(50*time.Millisecond, 20*time.Second, filling), "", `expect no "row 11"`)
	require.Equal(t, verdict.Fail, r.Verdict, "absence is not proved while rows still come")
	require.Equal(t, verdict.Pass, judge(t, film(50*time.Millisecond, 20*time.Second, filling), "",
		`expect 12 listitem`).Verdict)
}

func TestWhatKeepsChangingWhereAStepLooksIsToldByName(t *testing.T) {
	blinks := func(now time.Duration) []*screen.Node {
		if (now/(100*time.Millisecond))%2 == 0 {
			return []*screen.Node{el("status", "lamp", "On", 10)}
		}
		return nil
	}
	r := judge(t, film(50*time.Millisecond, 20*time.Second, blinks), "", `expect "On"`)
	require.Equal(t, verdict.Fail, r.Verdict)
	require.Contains(t, r.Failure.Actual, "it was shown for 100 ms")
	r = judge(t, blinking(), "", `expect #lamp shows "99"`)
	require.False(t, r.Failure.Settled)
	require.Contains(t, r.Failure.Actual, "the screen was still changing: ")
}

// blinking never comes to rest, and never changes one place often.
func blinking() *paper {
	p := &paper{}
	for i := range 60 {
		lamp := el("status", "lamp", fmt.Sprint(i), 10)
		p.moments = append(p.moments, moment{time.Duration(i) * 100 * time.Millisecond,
			shows(append(rows(i), lamp)...)})
	}
	return p
}

func rows(n int) (out []*screen.Node) {
	for i := range n {
		out = append(out, el("listitem", fmt.Sprintf("r%d", i), "row", 40))
	}
	return out
}

func TestWhatComesJustBeforePatienceEndsMaySettleAfter(t *testing.T) {
	for at, want := range map[time.Duration]verdict.Verdict{3900 * time.Millisecond: verdict.Pass,
		4100 * time.Millisecond: verdict.Fail} {
		comes := &paper{moments: []moment{{0, shows()}, {at, shows(el("status", "done", "Done", 10))}}}
		require.Equal(t, want, judge(t, comes, `"Done"`, `expect "Done"`).Verdict, "it comes after %s of 4 s", at)
		goes := &paper{moments: []moment{{0, shows(el("status", "done", "Done", 10))}, {at, shows()}}}
		require.Equal(t, want, judge(t, goes, `"Done"`, `expect no "Done"`).Verdict, "it goes after %s of 4 s", at)
	}
}

// slow is a device that takes its time to look.
type slow struct {
	*paper
	takes time.Duration
}

func (s slow) Tree(ctx context.Context) (*screen.Tree, error) {
	s.now += s.takes
	return s.paper.Tree(ctx)
}

func TestLooksThatTakeLongAreNoReasonToGiveUp(t *testing.T) {
	on := func(at time.Duration, takes time.Duration) Result {
		p := &paper{moments: []moment{{0, shows()}, {at, shows(el("status", "done", "Done", 10))}}}
		return judgeOn(t, slow{p, takes}, `"Done"`, `expect "Done"`)
	}
	for _, takes := range []time.Duration{0, 100 * time.Millisecond, 350 * time.Millisecond, 900 * time.Millisecond} {
		require.Equal(t, verdict.Pass, on(2900*time.Millisecond, takes).Verdict,
			"it came in time, and each look takes %s", takes)
		require.Equal(t, verdict.Fail, on(4100*time.Millisecond+takes, takes).Verdict,
			"it came later than a look can tell, and each look takes %s", takes)
	}
}

// A machine that has other things to do: each look takes over a second, and in each a stopwatch has gone on.
func TestAStopwatchKeepsNoStepWaitingWhereLooksTakeLong(t *testing.T) {
	for _, takes := range []time.Duration{400 * time.Millisecond, 1300 * time.Millisecond} {
		for _, at := range []time.Duration{0, 2 * time.Second, 3900 * time.Millisecond} {
			p := film(200*time.Millisecond, time.Minute, func(now time.Duration) []*screen.Node {
				if now < at {
					return nil
				}
				return []*screen.Node{el("button", "go", "Go", 10)}
			})
			r := judgeOn(t, slow{p, takes}, `"Go"`, `expect "Go"`, `tap "Go"`)
			require.Equal(t, verdict.Pass, r.Verdict, "it came after %s, and each look takes %s: %+v", at, takes, r.Failure)
		}
		r := judgeOn(t, slow{blinking(), takes}, `#lamp`, `expect #lamp shows "99"`)
		require.Equal(t, verdict.Fail, r.Verdict, "what is not so is not so, and each look takes %s", takes)
	}
}

// hindered is a device on a machine that keeps it from running for so much of the time.
type hindered struct {
	*paper
	share float64
}

func (s hindered) Hindered() func() time.Duration {
	from := s.now
	return func() time.Duration { return time.Duration(s.share * float64(s.now-from)) }
}

func TestWhoWasKeptFromRunningWasNotLate(t *testing.T) {
	comes := func() *paper {
		return &paper{moments: []moment{{0, shows()}, {5 * time.Second, shows(el("button", "go", "Go", 10))}}}
	}
	for _, step := range []string{`expect "Go"`, `tap "Go"`} {
		r := judgeOn(t, hindered{comes(), 0.7}, `"Go"`, step)
		require.Equal(t, verdict.Error, r.Verdict, step)
		var trouble *device.Trouble
		require.ErrorAs(t, r.Err, &trouble, step)
		require.True(t, trouble.Busy)
		require.Contains(t, r.Failure.Actual, "for 2.1 s of 3.0 s it waited for a processor")
		r = judgeOn(t, hindered{comes(), 0.3}, `"Go"`, step)
		require.Equal(t, verdict.Fail, r.Verdict, "%s: a machine that has a little to do is no excuse", step)
	}
}

func TestWhatHasNeverMatchedIsToldWithTheStepThatItsAbsencePasses(t *testing.T) {
	var notes []string
	s, _ := Read("suite \"s\"\ncase \"c\"\nexpect no #typo\nexpect no #known\nexpect at most 3 #typo\nend\n")
	r := RunCase(t.Context(), s, s.Cases[0], still(), Options{Known: func(l string) bool {
		return l == "#known"
	}}, nobody{})
	require.Equal(t, verdict.Pass, r.Verdict)
	for _, step := range r.Steps {
		notes = append(notes, step.Note)
	}
	require.Equal(t, []string{"this proves little: nothing has ever matched #typo in this app", "",
		"this proves little: nothing has ever matched #typo in this app"}, notes)
}

func TestACrashJustAfterTheLastStepIsTheCases(t *testing.T) {
	d := &paper{moments: []moment{{0, shows(el("button", "go", "Go", 10))}}, faultAt: 400 * time.Millisecond,
		later: &device.Crash{Reason: "boom"}}
	r := judge(t, d, "", `tap "Go"`)
	require.Equal(t, verdict.Fail, r.Verdict)
	require.Equal(t, Crashed, r.Failure.Cause)
	require.Contains(t, r.Failure.Actual, "boom, after the last step")
}

func TestTheAppThatLeftTheFrontIsToldWithWhatIsThereInstead(t *testing.T) {
	app, system := shows(el("button", "go", "Go", 10)), shows(el("heading", "", "Allow this app to use your location?",
		10))
	app.App, system.App = "example.tideline", "system"
	d := &paper{moments: []moment{{0, app}, {2 * time.Second, system}}}
	r := judge(t, d, `"Done"`, `expect "Go"`, `expect "Done"`)
	require.Contains(t, r.Failure.Actual, `the app is not in front: heading "Allow this app to use your location?" is`)
}

func TestNumbersAreComparedExactly(t *testing.T) {
	d := func() *paper {
		return still(el("", "n", "20000000.01", 10), el("", "order", "4000000001", 40), el("", "beds", "5 plants", 70))
	}
	for step, want := range map[string]verdict.Verdict{
		`expect number in #n = 20000000.02`:    verdict.Fail,
		`expect number in #n = 20000000.01`:    verdict.Pass,
		`expect number in #n > 20000000.01`:    verdict.Fail,
		`expect number in #order = 4000000002`: verdict.Fail,
		`expect 0.1 + 0.2 = 0.3`:               verdict.Pass,
		`expect 10 / 3 * 3 = 10`:               verdict.Pass,
		`expect #beds shows 5`:                 verdict.Fail,
		`expect #order shows 4000000001`:       verdict.Pass,
		`expect number in #beds = 5`:           verdict.Pass,
		`expect 1 / 0 = 1`:                     verdict.Fail,
	} {
		r := judge(t, d(), "", step)
		require.Equal(t, want, r.Verdict, "%s: %+v", step, r.Failure)
		if r.Failure != nil {
			require.NotContains(t, r.Failure.Expected, "expect ")
		}
	}
	var grow []string
	for range 40 {
		grow = append(grow, `let n = $n * $n`)
	}
	r := judge(t, d(), "", append([]string{`let n = 12345.6789`}, grow...)...)
	require.Equal(t, NotANumber, r.Failure.Cause, "figures do not grow without bound")
}
