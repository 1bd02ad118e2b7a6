package script

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/verdict"
)

// dying is a device whose app dies when it is touched, and is well again once it is started.
type dying struct {
	*able
	dead bool
}

func (d *dying) Tap(context.Context, screen.Point) error {
	d.dead = true
	return &device.Crash{Reason: "it broke"}
}

func (d *dying) Tree(ctx context.Context) (*screen.Tree, error) {
	if d.dead {
		return nil, &device.Crash{Reason: "it broke"}
	}
	return d.able.Tree(ctx)
}

func (d *dying) Start(ctx context.Context, app string, how device.Start) error {
	d.dead = false
	return d.able.Start(ctx, app, how)
}

func TestACrashStaysInItsCase(t *testing.T) {
	for name, text := range map[string]string{
		"cases that start the app themselves": "suite \"s\"\ncase \"dies\"\nstart app\ntap #go\nend\ncase \"lives\"\nstart app\nexpect #total\nend\n",
		"before each":                         "suite \"s\"\nbefore each\nstart app fresh\nend\ncase \"dies\"\ntap #go\nend\ncase \"lives\"\nexpect #total\nend\n",
		"neither":                             "suite \"s\"\ncase \"dies\"\ntap #go\nend\ncase \"lives\"\nexpect #total\nend\n",
	} {
		t.Run(name, func(t *testing.T) {
			s := reads(t, text, nil)
			d := &dying{able: sample()}
			o := sampleOptions()
			opened := 0
			o.Opened = func(ctx context.Context) error { // levels are read back from the app's own screen
				opened++
				_, err := d.Tree(ctx)
				return err
			}
			p := NewPlay(s, d, o)
			first, second := p.Case(context.Background(), s.Cases[0], false, nobody{}), p.Case(context.Background(),
				s.Cases[1], true, nobody{})
			require.Equal(t, Crashed, first.Failure.Cause)
			require.Equal(t, verdict.Pass, second.Verdict, "%+v", second.Failure)
			require.Equal(t, 2, opened, "once a case")
		})
	}
}

func TestACountHoldsOnTheSettledScreen(t *testing.T) {
	rows := func(n int) screen.Tree {
		var nodes []*screen.Node
		for i := range n {
			nodes = append(nodes, el("listitem", "", "row", float64(40*i)))
		}
		return shows(nodes...)
	}
	growing := &paper{moments: []moment{{0, rows(1)}, {100 * time.Millisecond, rows(3)},
		{300 * time.Millisecond, rows(5)}}}
	r := judge(t, growing, "listitem", "expect 3 listitem")
	require.Equal(t, verdict.Fail, r.Verdict, "three for a moment are not three")
	require.Equal(t, "there are 5", r.Failure.Actual)
	require.Equal(t, verdict.Pass, judge(t, &paper{moments: growing.moments}, "", "expect 5 listitem").Verdict)
}

func TestWhatIsThereIsThereWhateverElseMoves(t *testing.T) {
	var moments []moment
	for i := range 200 { // a thing that jumps about for 20 s, to another place each time
		moments = append(moments, moment{time.Duration(i) * 100 * time.Millisecond,
			shows(el("", "fare", "€ 6.30", 0), el("img", "", string(rune('a'+i)), float64(40+3*i)))})
	}
	require.Equal(t, verdict.Pass, judge(t, &paper{moments: moments}, "#fare", `expect #fare shows "€ 6.30"`).Verdict)
}

func TestABranchThatIsDecidedByNothingSaysSo(t *testing.T) {
	d := still(el("button", "pay", "Pay", 0))
	r := judge(t, d, "", "if #bannr", "  tap #pay", "end", "expect #pay")
	require.Equal(t, verdict.Pass, r.Verdict)
	require.Contains(t, r.Steps[0].Note, "decided by nothing: nothing has ever matched #bannr")
	require.Equal(t, "#bannr", r.Steps[0].Absent)
	r = judge(t, d, "#pay", "if number in #pay > 3", "  tap #pay", "end")
	require.Contains(t, r.Steps[0].Note, "decided by nothing")
	r = judge(t, d, "#pay", "if #pay", "  note \"seen\"", "end")
	require.Equal(t, "it is so", r.Steps[0].Note)
	s := reads(t, "suite \"s\"\ncase \"c\"\nif #bannr\nnote \"x\"\nend\nend\n", nil)
	findings := s.Against(Against{Known: func(string) bool { return false }})
	require.Len(t, findings, 1)
	require.Contains(t, findings[0].Hint, "decided by nothing")
}

func TestAFailureSaysWhatWasAskedForWhateverWasThere(t *testing.T) {
	d := still(el("button", "pay", "Pay", 0))
	for step, expected := range map[string]string{
		`expect #gone shows "€ 6.30"`:                     `#gone to show "€ 6.30"`,
		`expect #gone contains "€"`:                       `#gone to contain "€"`,
		`expect number in #gone = 3`:                      `number in #gone = 3`,
		`expect #gone shows number in #pay`:               `#gone to show number in #pay`,
		`expect number in #gone = number in #pay * 2 + 1`: `number in #gone = what is computed`,
	} {
		r := judge(t, d, "#gone", step)
		require.Equal(t, verdict.Fail, r.Verdict, step)
		require.Equal(t, expected, r.Failure.Expected, step)
	}
	require.Equal(t, "2 listitem", judge(t, d, "listitem", "expect (1 + 1) listitem").Failure.Expected)
}

func TestAnIconOnTheHomeScreenIsNotTheAppsName(t *testing.T) {
	app, home := shows(el("heading", "", "Tideline", 0)), shows(el("button", "", "Tideline", 0))
	app.App, home.App = "example.tideline", ""
	d := &paper{moments: []moment{{0, app}, {500 * time.Millisecond, home}}}
	s := reads(t, "suite \"s\"\npatience 1s\ncase \"c\"\nexpect heading\npause 1s\nexpect \"Tideline\"\nend\n", nil)
	r := RunCase(context.Background(), s, s.Cases[0], d, Options{App: "example.tideline",
		Known: func(string) bool { return true }}, nobody{})
	require.Equal(t, verdict.Fail, r.Verdict)
	require.Contains(t, r.Failure.Actual, "the home screen is")
}

// waking is a device that takes a while to be looked at, as one whose screen has gone off.
type waking struct{ *paper }

func (w *waking) Tree(ctx context.Context) (*screen.Tree, error) {
	if w.now > 100*time.Millisecond && w.now < 700*time.Millisecond {
		w.now += 700 * time.Millisecond
	}
	return w.paper.Tree(ctx)
}

func TestQuietIsTimeInWhichTheScreenWasLookedAt(t *testing.T) {
	d := &waking{&paper{moments: []moment{{0, shows(el("", "", "Late", 0))}, {150 * time.Millisecond, shows()},
		{1050 * time.Millisecond, shows(el("", "", "Error", 0))}}}}
	s := reads(t, "suite \"s\"\npatience 500ms\ncase \"c\"\nexpect \"Late\"\nexpect no \"Error\"\nend\n", nil)
	r := RunCase(context.Background(), s, s.Cases[0], d, Options{Known: func(string) bool { return true }}, nobody{})
	require.Equal(t, verdict.Fail, r.Verdict, "%+v", r.Steps)
}

func TestACaseThatUpdatesTheAppLeavesTheRunsBuildToTheNext(t *testing.T) {
	var did []string
	update := func(_ context.Context, build string) error { did = append(did, build); return nil }
	play := func(text string) []Result {
		s := reads(t, text, nil)
		o := sampleOptions()
		o.Update, did = update, nil
		p := NewPlay(s, sample(), o)
		var out []Result
		for i, c := range s.Cases {
			out = append(out, p.Case(context.Background(), c, i == len(s.Cases)-1, nobody{}))
		}
		return out
	}
	const two = "case \"a\"\nupdate app to build \"2\"\nend\ncase \"b\"\nexpect #total\nend\ncase \"c\"\nexpect #total\nend\n"
	for _, r := range play("suite \"s\"\n" + two) {
		require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	}
	require.Equal(t, []string{"2", ""}, did, "put back once, before the next case")
	play("suite \"s\"\nbefore all\nupdate app to build \"1\"\nend\n" + two)
	require.Equal(t, []string{"1", "2", "1"}, did, "to what came before all")
	update = func(_ context.Context, build string) error {
		if build == "" {
			return errors.New("no room")
		}
		return nil
	}
	out := play("suite \"s\"\n" + two)
	require.Equal(t, []verdict.Verdict{verdict.Pass, verdict.Error, verdict.Error}, []verdict.Verdict{out[0].Verdict,
		out[1].Verdict, out[2].Verdict},
		"no case runs on a build that is not the run's")
	require.ErrorContains(t, out[1].Err, "could not be put back: no room")
}

func TestASecretIsHiddenFromItsFirstSign(t *testing.T) {
	m := NewMask(map[string]string{"pin": "hunter2"}, nil)
	field := func(value string, focused bool) *screen.Tree {
		return &screen.Tree{Root: &screen.Node{Role: "textbox", Value: value, Focused: focused}}
	}
	for n := 1; n <= len("hunter2"); n++ {
		require.Equal(t, `[secret "pin"]`, m.Tree(field("hunter2"[:n], true)).Root.Value)
	}
	require.Equal(t, "hu", m.Tree(field("hu", false)).Root.Value, "what nobody types is what it is")
	require.Equal(t, "hat", m.Tree(field("hat", true)).Root.Value)
}
