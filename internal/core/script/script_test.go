package script

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/verdict"
)

// paper is a device whose screens are written down: what it shows from when on.
type paper struct {
	now       time.Duration
	moments   []moment
	revision  uint64
	at        int
	did       []string
	abilities []string
	fault     error
	faultAt   time.Duration // later comes up then, 0 for never
	later     error
}

type moment struct {
	from time.Duration
	tree screen.Tree
}

func (p *paper) current() *screen.Tree {
	for p.at+1 < len(p.moments) && p.moments[p.at+1].from <= p.now {
		p.at++
		p.revision++
	}
	t := p.moments[p.at].tree
	t.Revision, t.Language = p.revision+1, "en-GB"
	return &t
}

func (p *paper) Tree(context.Context) (*screen.Tree, error) {
	if p.faultAt > 0 && p.now >= p.faultAt {
		return nil, p.later
	}
	return p.current(), p.fault
}
func (p *paper) Now() time.Duration  { return p.now }
func (p *paper) Abilities() []string { return p.abilities }
func (p *paper) Picture(context.Context) (device.Picture, error) {
	return nil, errors.New("no picture")
}
func (p *paper) Stop(context.Context, string) error { return p.fault }
func (p *paper) Start(context.Context, string, device.Start) error {
	p.did = append(p.did, "start")
	return p.fault
}

func (p *paper) AwaitChange(_ context.Context, revision uint64, until time.Duration) error {
	for p.now < until {
		if p.at+1 < len(p.moments) && p.moments[p.at+1].from <= until {
			p.now = max(p.now, p.moments[p.at+1].from)
		} else {
			p.now = until
		}
		if p.current().Revision > revision {
			return nil
		}
	}
	return nil
}

func (p *paper) Tap(_ context.Context, at screen.Point) error {
	p.did = append(p.did, "tap "+p.current().Hit(at).ID)
	return nil
}

func (p *paper) Keys(_ context.Context, keys string) error {
	p.did = append(p.did, "keys "+keys)
	return nil
}

type nobody struct{}

func (nobody) Step(StepRecord)                                                          {}
func (nobody) Picture(string, device.Picture, *screen.Tree, []screen.Rect, screen.Rect) {}

func el(role, id, text string, y float64) *screen.Node {
	at := screen.Rect{X: 0, Y: y, W: 100, H: 20}
	return &screen.Node{Role: role, ID: id, Text: text, Bounds: at, Visible: at, Touch: role != ""}
}

func shows(nodes ...*screen.Node) screen.Tree {
	whole := screen.Rect{W: 400, H: 800}
	return screen.Tree{Root: &screen.Node{Role: "application", Bounds: whole, Visible: whole, Children: nodes},
		Width: 400, Height: 800}
}

func still(nodes ...*screen.Node) *paper { return &paper{moments: []moment{{0, shows(nodes...)}}} }

// judge runs one case made of steps on a device.
func judge(t *testing.T, d *paper, known string, steps ...string) Result {
	t.Helper()
	return judgeOn(t, d, known, steps...)
}

func judgeOn(t *testing.T, d device.Device, known string, steps ...string) Result {
	t.Helper()
	s, findings := Read("suite \"s\"\npatience 4s\ncase \"c\"\n" + strings.Join(steps, "\n") + "\nend\n")
	require.Zero(t, Faults(findings), "%+v", findings)
	return RunCase(context.Background(), s, s.Cases[0], d, Options{Known: func(l string) bool {
		return l == known
	}}, nobody{})
}

func TestTheVerdictTable(t *testing.T) {
	hidden := el("button", "go", "Go", 10)
	hidden.Visible = screen.Rect{}
	off := el("button", "go", "Go", 10)
	off.Disabled = true
	cover := el("dialog", "ask", "", 0)
	cover.Visible = screen.Rect{W: 400, H: 800}
	crashed := still(el("button", "go", "Go", 10))
	crashed.fault = &device.Crash{Reason: "boom"}
	broken := still(el("button", "go", "Go", 10))
	broken.fault = errors.New("the cable dropped")
	for _, c := range []struct {
		name    string
		device  *paper
		known   string
		step    string
		verdict verdict.Verdict
		cause   Cause
		says    string
	}{
		{"the screen agrees", still(el("button", "go", "Go", 10)), "", `expect "Go"`, verdict.Pass, "", ""},
		{"the settled screen contradicts", still(el("button", "go", "Go", 10)), "", `expect no "Go"`, verdict.Fail,
			Contradicted, "is shown"},
		{"an expected element is not there", still(el("button", "go", "Go", 10)), `"Gone"`, `expect "Gone"`,
			verdict.Fail,
			Missing, `nearest: button #go "Go"`},
		{"an expected element that nothing has ever matched", still(el("button", "go", "Go", 10)), "", `expect #og`,
			verdict.Error, NeverMatched, "nothing has ever matched #og"},
		{"as many as expected, of what nothing has ever matched", still(el("button", "go", "Go", 10)), "",
			`expect 2 #og`,
			verdict.Error, NeverMatched, "nothing has ever matched #og"},
		{"an answer that is awaited", pending(), "", `expect "Go"`, verdict.Fail, Awaited, "still awaited, for 4.0 s"},
		{"the same, where the screen of before would do", pending(), "", `expect no "Stop"`, verdict.Fail, Awaited,
			"proves nothing"},
		{"the same, where nothing has ever matched", pending(), "", `tap "Stop"`, verdict.Fail, Awaited,
			"still awaited"},
		{"hidden", still(hidden), "", `tap #go`, verdict.Fail, Unusable, "hidden"},
		{"disabled", still(off), "", `tap #go`, verdict.Fail, Unusable, "disabled"},
		{"covered", still(el("button", "go", "Go", 10), cover), "", `tap #go`, verdict.Fail, Unusable,
			"covered by dialog #ask"},
		{"missing, though it matched before", still(el("button", "go", "Go", 10)), "#buy", `tap #buy`, verdict.Fail,
			Missing, "not there"},
		{"nothing has ever matched", still(el("button", "go", "Go", 10)), "", `tap #og`, verdict.Error, NeverMatched,
			"nothing has ever matched #og; nearest: button #go"},
		{"several where one is needed", still(el("button", "a", "Go", 10), el("button", "b", "Go", 60)), "",
			`tap button called "Go"`, verdict.Error, Ambiguous, "(1) #a at 0,10, (2) #b at 0,60"},
		{"a number that is none", still(el("", "total", "free", 10)), "", `expect number in #total = 3`, verdict.Fail,
			NotANumber, `"free"`},
		{"a crash", crashed, "", `expect "Go"`, verdict.Fail, Crashed, "boom"},
		{"a device in trouble", broken, "", `expect "Go"`, verdict.Error, Trouble, "the cable dropped"},
		{"a missing key is known beforehand", still(), "", `press back`, verdict.Skip, NoAbility, "cannot"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := judge(t, c.device, c.known, "press tab", c.step)
			if c.verdict == verdict.Error && c.cause == Trouble || c.cause == Crashed {
				r = judge(t, c.device, c.known, c.step)
			}
			require.Equal(t, c.verdict, r.Verdict, "%+v", r.Failure)
			if c.cause == "" {
				require.Nil(t, r.Failure)
				return
			}
			require.Equal(t, c.cause, r.Failure.Cause)
			require.Contains(t, r.Failure.Actual, c.says)
		})
	}
}

// pending shows a screen on which the app's answer never comes.
func pending() *paper {
	busy := shows(el("button", "go", "Go", 10))
	busy.Busy = true
	return &paper{moments: []moment{{0, busy}}}
}

func TestNothingIsJudgedOnTheScreenOfBefore(t *testing.T) {
	// The toast is on its way when the step begins; it comes 200 ms later.
	late := &paper{moments: []moment{{0, shows(el("button", "go", "Go", 10))},
		{200 * time.Millisecond, shows(el("status", "toast", "Saved", 10))}}}
	r := judge(t, late, "", `expect no "Saved"`)
	require.Equal(t, verdict.Fail, r.Verdict, "a screen that has not settled proves no absence")

	busy := shows(el("button", "go", "Go", 10))
	busy.Busy = true
	loading := &paper{moments: []moment{{0, busy}, {3 * time.Second, shows(el("status", "toast", "Saved", 10))}}}
	require.Equal(t, verdict.Fail, judge(t, loading, "", `expect no "Saved"`).Verdict, "nor does one that is busy")
}

func TestAStepWaitsUpToItsPatienceAndNoLonger(t *testing.T) {
	comes := func() *paper {
		return &paper{moments: []moment{{0, shows()}, {5 * time.Second, shows(el("status", "done", "Done", 10))}}}
	}
	require.Equal(t, verdict.Fail, judge(t, comes(), `"Done"`, `expect "Done"`).Verdict, "the suite's patience is 4 s")
	r := judge(t, comes(), "", `expect "Done" within 6s`)
	require.Equal(t, verdict.Pass, r.Verdict)
	require.InDelta(t, 5300, r.TookMS, 50, "it wakes with the change, and lets it settle")
	r = judge(t, comes(), `"Done"`, `expect "Done"`)
	require.InDelta(t, 4000, r.Failure.WaitedMS, 1)
	require.True(t, r.Failure.Settled)
}

func TestACaseEndsAtItsOwnLimit(t *testing.T) {
	s, findings := Read("suite \"s\"\ncase \"c\"\n" + strings.Repeat(
		"expect \"Go\" within 2m\nexpect \"Done\" within 2m\n", 2) + "end\n")
	require.Zero(t, Faults(findings))
	slow := &paper{moments: []moment{
		{0, shows(el("button", "go", "Go", 10))}, {100 * time.Second, shows(el("button", "done", "Done", 10))},
		{200 * time.Second, shows(el("button", "go", "Go", 10))},
		{300 * time.Second, shows(el("button", "done", "Done", 10))}}}
	r := RunCase(context.Background(), s, s.Cases[0], slow, Options{CaseLimit: 3 * time.Minute}, nobody{})
	require.Equal(t, verdict.Fail, r.Verdict)
	require.Equal(t, OutOfTime, r.Failure.Cause)
}

func TestFillTakesAwayWhatWasThereAndNumbersCompute(t *testing.T) {
	field := el("textbox", "n", "", 10)
	field.Value, field.Focused = "12", true
	d := still(field, el("", "single", "€4.20", 40), el("", "total", "€12.60", 70))
	r := judge(t, d, "", `let single = number in #single`, `set #n to 3`, `expect number in #total = 3 * $single`,
		`expect number in #total > $single + (8 - 1.5)`, `expect #total shows "€12.60"`)
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	require.Equal(t, []string{"start", "tap n", "keys \uE010\uE003\uE003", "keys 3"}, d.did)
	require.ElementsMatch(t, []string{"#single", "#n", "#total"}, r.Matched)
}

func TestVariablesGoIntoTexts(t *testing.T) {
	d := still(el("heading", "h", "Island 3", 10))
	r := judge(t, d, "", `let n = 1 + 2`, `let word = "Island {n}"`, `expect heading called "{word}"`,
		`expect #h shows "Island {n}"`)
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
}

func TestFindingsMarkTheirPlaceAndSuggest(t *testing.T) {
	_, findings := Read("suite \"x\"\ncase \"a\"\n\ttpa \"Go\"\n  expect botton\n  expect \"Go\"\nend\n")
	require.Len(t, findings, 2)
	require.Equal(t, "f.yamato:3:2: fault: unknown word `tpa`; did you mean `tap`?\n    \ttpa \"Go\"\n    \t^^^\n",
		findings[0].Format("f.yamato"))
	require.Equal(t, Pos{Line: 4, Column: 10}, findings[1].Pos)
	require.Contains(t, findings[1].Hint, "`button`")
}

func TestEveryFaultIsFoundNotOnlyTheFirst(t *testing.T) {
	for text, says := range map[string]string{
		"case \"a\"\nexpect \"x\"\nend":         "the suite has no name",
		"suite \"s\"":                           "the suite has no case",
		"suite \"s\"\ncase \"a\"\nexpect \"x\"": "never closed",
		"suite \"s\"\ncase \"a\"\nexpect \"x\"\nend\ncase \"a\"\nexpect \"x\"\nend": "a case with this name " +
			"stands on line 2",
		"suite \"s\"\ncase \"a\"\ntap #x\nend":                     "expects nothing",
		"suite \"s\"\ncase \"a\"\nexpect number in #t = $x\nend":   "nothing is called `x` here",
		"suite \"s\"\ncase \"a\"\nexpect \"{x}\"\nend":             "nothing is called `x` here",
		"suite \"s\"\ncase \"a\"\nexpect \"x\nend":                 "has no end",
		"suite \"s\"\ncase \"a\"\nexpect /(/\nend":                 "this pattern cannot be read",
		"suite \"s\"\ncase \"a\"\nexpect 'x'\nend":                 "double quotes",
		"suite \"s\"\ncase \"a\"\nswipe askew\nend":                "up, down, left or right",
		"suite \"s\"\ntap #x\ncase \"a\"\nexpect #x\nend":          "steps stand in a case",
		"suite \"s\"\ncase \"a\"\nexpect #x within 15\nend":        "needs a unit",
		"suite \"s\"\ncase \"a\"\nexpect at least 2.5 button\nend": "a whole number",
		"suite \"s\"\ncase \"a\"\nexpect #x within 15parsecs\nend": "unknown unit",
		"suite \"s\"\nsuite \"t\"\ncase \"a\"\nexpect #x\nend":     "has a name already",
	} {
		_, findings := Read(text)
		var all []string
		for _, f := range findings {
			all = append(all, f.Message+"; "+f.Hint)
		}
		require.Contains(t, strings.Join(all, "\n"), says, text)
	}
}

func TestIndentationCommentsAndCurlyQuotesDoNotMatter(t *testing.T) {
	s, findings := Read("\ufeffSUITE “Buying”\r\n  // a note\r\nCase “a” tags one, two\r\n\t  Expect   " +
		"\"x // y\"  " +
		" // seen\r\nEND")
	require.Zero(t, Faults(findings))
	require.Len(t, findings, 1, "curly quotes are told of once, and are no fault")
	require.Equal(t, "Buying", s.Name)
	require.Equal(t, []string{"one", "two"}, s.Cases[0].Tags)
	require.Equal(t, `Expect "x // y"`, s.Cases[0].Body.Steps[0].base().Text)
}

func FuzzReadNeverPanicsAndMarksPlacesThatExist(f *testing.F) {
	f.Add("suite \"s\"\ntags a\npatience 8s\nbefore each\n start app fresh\nend\ncase \"c\" tags x\n tap 2nd " +
		"button called /x/ in #y within 3s\n let a = (1 + 2) * number in #b / 3\n picture of last tab as \"p " +
		"{a}\"\nend\n")
	f.Add("case \"\n\"{\\}")
	f.Fuzz(func(t *testing.T, text string) {
		lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
		_, findings := Read(text)
		for _, one := range findings {
			require.GreaterOrEqual(t, one.Pos.Line, 1)
			require.LessOrEqual(t, one.Pos.Line, len(lines)+1)
			require.GreaterOrEqual(t, one.Pos.Column, 1)
			_ = one.Format("f")
		}
	})
}
