package standin_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/testbin"
)

// trial is a small app of which the truth is known, and a case about it.
type trial struct {
	name     string
	setup    string // run when the app starts
	body     string // an expression that gives its elements
	steps    []string
	known    []string
	language string
	want     verdict.Verdict
	cause    script.Cause // "" for any
}

const trialPatience = 4 * time.Second

// kinds make trials from chance: each knows what its app does when, and so what is true.
var kinds = []func(r *rand.Rand) trial{
	appears, vanishes, toast, answers, staleScreen, coveredUntil, disabledUntil, seeThrough, underSheet, reorders,
	fills,
	numbers, noNumbers,
	shows, crashes, backs, neverMatched, ambiguous, scrolled, uneven, typed, composed, showsNothing, animated, leaves,
}

// moment is a time on one side of patience or the other, not within a frame of it.
func moment(r *rand.Rand) (at int, inTime bool) {
	patience := int(trialPatience.Milliseconds())
	if r.IntN(2) == 0 {
		return 100 + r.IntN(patience-500), true
	}
	return patience + 150 + r.IntN(2500), false
}

func verdictOf(pass bool) verdict.Verdict {
	if pass {
		return verdict.Pass
	}
	return verdict.Fail
}

func appears(r *rand.Rand) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let there = false; os.after(%d, () => { there = true; });`, at),
		body:  `there && ui.text({text: 'Arrived'})`,
		steps: []string{`expect "Arrived"`}, known: []string{`"Arrived"`}, want: verdictOf(ok)}
}

func vanishes(r *rand.Rand) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let there = true; os.after(%d, () => { there = false; });`, at),
		body:  `there && ui.text({text: 'Boarding'})`,
		steps: []string{`expect no "Boarding"`}, want: verdictOf(ok)}
}

// toast stands for a while and goes by itself.
func toast(r *rand.Rand) trial {
	at, lasts := 50+r.IntN(2000), 900+r.IntN(2500)
	return trial{setup: fmt.Sprintf(`let said = ''; function go() { os.after(%d, () => { said = 'Saved'; }); os.after(%d, () => { said = ''; }); }`, at, at+lasts),
		body:  `ui.button({id: 'go', text: 'Go', onTap: go}), said && ui.text({role: 'status', text: said})`,
		steps: []string{`tap #go`, `expect "Saved"`}, want: verdict.Pass}
}

// answers asks over the network: until it has answered nothing is proved.
func answers(r *rand.Rand) trial {
	at, ok := moment(r)
	wanted := []string{`expect "42 seats"`, `expect no "Loading"`, `expect number in #seats = 42`,
		`expect at least 1 listitem`}[r.IntN(4)]
	return trial{setup: fmt.Sprintf(`let seats = 0, asked = false; function go() { asked = true; os.request(%d, () => { seats = 42; }); }`, at),
		body:  `ui.button({id: 'go', text: 'Go', onTap: go}), asked && !seats && ui.text({text: 'Loading'}), seats && ui.text({id: 'seats', role: 'listitem', text: seats + ' seats'})`,
		steps: []string{`tap #go`, wanted}, known: []string{`"42 seats"`, `#seats`, "listitem"}, want: verdictOf(ok)}
}

// staleScreen shows already what is expected, and awaits an answer for ever.
func staleScreen(r *rand.Rand) trial {
	step := []string{`expect "Total"`, `expect no "Refused"`, `expect #total shows "5"`, `expect number in #total = 5`,
		`expect 1 heading`}[r.IntN(5)]
	return trial{setup: `function go() { os.request(60000, () => {}); }`,
		body:  `ui.button({id: 'go', text: 'Go', onTap: go}), ui.text({role: 'heading', text: 'Total'}), ui.text({id: 'total', text: '5'})`,
		steps: []string{`tap #go`, step}, want: verdict.Fail, cause: script.Awaited}
}

func coveredUntil(r *rand.Rand) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let covered = true, done = false; os.after(%d, () => { covered = false; });`, at),
		body: `ui.stack({w: 300, h: 300}, ui.column({}, ui.button({id: 'go', text: 'Go', onTap: () => { done = true; }}), done && ui.text({text: 'Done'})),
			covered && ui.column({ground: '#336699', id: 'sheet'}, ui.text({text: 'Please wait'})))`,
		steps: []string{`tap #go`, `expect "Done"`}, known: []string{`"Done"`}, want: verdictOf(ok)}
}

func disabledUntil(r *rand.Rand) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let off = true, done = false; os.after(%d, () => { off = false; });`, at),
		body:  `ui.button({id: 'go', text: 'Go', disabled: off, onTap: () => { done = true; }}), done && ui.text({text: 'Done'})`,
		steps: []string{`tap "Go"`, `expect "Done"`}, known: []string{`"Done"`}, want: verdictOf(ok)}
}

// seeThrough lays something over everything that neither hides nor takes a touch.
func seeThrough(r *rand.Rand) trial {
	return trial{setup: `let done = false;`,
		body: `ui.stack({w: 300, h: 300}, ui.column({}, ui.button({id: 'go', text: 'Go', onTap: () => { done = true; }}), done && ui.text({text: 'Done'})),
			ui.column({spread: 'end', h: 300}, ui.text({text: 'a hint at the foot'})))`,
		steps: []string{`tap #go`, `expect "Done"`}, want: verdict.Pass}
}

// underSheet has things under an opaque sheet, which nobody sees.
func underSheet(r *rand.Rand) trial {
	step := []string{`expect no "Old price"`, `tap button called "Pay"`, `expect 1 button called "Pay"`,
		`expect "Old price"`}[r.IntN(4)]
	return trial{setup: `let paid = 0;`,
		body: `ui.stack({w: 300, h: 300}, ui.column({}, ui.text({text: 'Old price'}), ui.button({text: 'Pay', onTap: () => { paid = 1; }})),
			ui.column({ground: '#ffffff', h: 300}, ui.text({text: 'New price'}), ui.button({text: 'Pay', onTap: () => { paid = 2; }})))`,
		steps: []string{step}, known: []string{`"Old price"`}, want: verdictOf(step != `expect "Old price"`)}
}

func reorders(r *rand.Rand) trial {
	names := []string{"Sora", "Minami", "Kujira", "Tobi", "Haruka"}
	r.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	after := append([]string{}, names...)
	r.Shuffle(len(after), func(i, j int) { after[i], after[j] = after[j], after[i] })
	n := 1 + r.IntN(5)
	word, want := []string{"1st", "2nd", "3rd", "4th", "5th"}[n-1], after[n-1]
	if r.IntN(4) == 0 {
		word, want = "last", after[4]
	}
	return trial{setup: fmt.Sprintf(`let list = %q.split(','), picked = ''; os.after(%d, () => { list = %q.split(','); });`, strings.Join(names, ","), 50+r.IntN(200), strings.Join(after, ",")),
		body:  `ui.column({}, list.map((n) => ui.row({role: 'listitem', onTap: () => { picked = n; }}, ui.text({text: n})))), picked && ui.text({id: 'picked', text: picked})`,
		steps: []string{"tap " + word + " listitem", fmt.Sprintf(`expect #picked shows %q`, want)}, want: verdict.Pass}
}

// fills puts rows into a list one by one.
func fills(r *rand.Rand) trial {
	rows, every := 3+r.IntN(8), 60+r.IntN(200)
	asked := rows + r.IntN(2)
	step := []string{fmt.Sprintf(`expect %d listitem`, asked), fmt.Sprintf(`expect at least %d listitem`,
		asked)}[r.IntN(2)]
	return trial{setup: fmt.Sprintf(`let rows = 0; for (let i = 1; i <= %d; i++) os.after(i * %d, () => { rows = i; });`,
		rows, every),
		body:  `ui.column({}, Array.from({length: rows}, (_, i) => ui.text({role: 'listitem', text: 'row ' + i})))`,
		steps: []string{step}, known: []string{"listitem"}, want: verdictOf(asked == rows)}
}

// numbers are written as each language does.
func numbers(r *rand.Rand) trial {
	language := []string{"en-GB", "de-DE", "pt-PT"}[r.IntN(3)]
	whole, cents := r.Int64N(30_000_000), r.IntN(100)
	point, group := map[string]string{"en-GB": ".", "de-DE": ",", "pt-PT": ","}[language],
		map[string]string{"en-GB": ",", "de-DE": ".", "pt-PT": "\u00a0"}[language]
	digits := fmt.Sprint(whole)
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + group + digits[i:]
	}
	sign := []string{"", "", "-", "−"}[r.IntN(4)]
	text := sign + digits + point + fmt.Sprintf("%02d", cents)
	switch r.IntN(5) {
	case 0:
		text = sign + "€" + strings.TrimPrefix(text, sign)
	case 1:
		text += "\u00a0€"
	case 2:
		text += " %"
	case 3:
		text = "Saldo: " + text
	}
	value := fmt.Sprintf("%d.%02d", whole, cents)
	if sign != "" {
		value = "0 - " + value
	}
	step, ok := fmt.Sprintf(`expect number in #n = %s`, value), true
	if r.IntN(2) == 0 {
		step, ok = fmt.Sprintf(`expect number in #n = %s + 0.01`, value), false
	}
	return trial{language: language, setup: fmt.Sprintf("const text = %q;", text), body: `ui.text({id: 'n', text})`,
		steps: []string{step}, want: verdictOf(ok)}
}

func noNumbers(r *rand.Rand) trial {
	texts := []string{"Bed B-12", "5'6\"", "2026-11-25", "3 of 5", "10:30", "B12", "99+", "1.2k", "free", "1 to 4",
		"12A", "1,50,2"}
	return trial{setup: fmt.Sprintf("const text = %q;", texts[r.IntN(len(texts))]), body: `ui.text({id: 'n', text})`,
		steps: []string{fmt.Sprintf(`expect number in #n = %d`, r.IntN(20))}, want: verdict.Fail,
		cause: script.NotANumber}
}

func shows(r *rand.Rand) trial {
	c := []struct {
		text, wanted string
		ok           bool
	}{{"5 plants", "5", false}, {"5", "5", true}, {"5.0", "5", true}, {"€5", "5", false}, {"Pay  now", `"Pay now"`,
		true}, {"Pay now!", `"Pay now"`, false}, {"1,000", "1000", true}, {"10%", "10", false}}[r.IntN(8)]
	return trial{setup: fmt.Sprintf("const text = %q;", c.text), body: `ui.text({id: 'n', text})`,
		steps: []string{"expect #n shows " + c.wanted}, want: verdictOf(c.ok)}
}

// crashes wherever an app can, with whatever can be thrown.
func crashes(r *rand.Rand) trial {
	boom := []string{`throw new Error('bad\u0000thing')`, `throw null`, `throw Object.create(null)`,
		`throw {toString() { throw 1; }}`, `throw 'words'`, `undefined.x`, `throw 7n`}[r.IntN(7)]
	after := 10 + r.IntN(900)
	t := []trial{
		{setup: boom + `;`, steps: []string{`expect "Go"`}},
		{setup: `function go() { ` + boom + `; }`, steps: []string{`tap #go`}},
		{setup: fmt.Sprintf(`function go() { os.after(%d, () => { %s; }); }`, after, boom), steps: []string{`tap #go`}},
		{setup: fmt.Sprintf(`function go() { os.request(%d, () => { %s; }); }`, 3*after, boom),
			steps: []string{`tap #go`}},
		{setup: fmt.Sprintf(`os.after(%d, () => { %s; });`, 1500+after, boom),
			steps: []string{`expect "Never" within 3s`},
			known: []string{`"Never"`}},
		{setup: `os.onBack(() => { ` + boom + `; });`, steps: []string{`press back`}},
	}[r.IntN(6)]
	if !strings.Contains(t.setup, "function go") {
		t.setup = `function go() {} ` + t.setup
	}
	t.body = `ui.button({id: 'go', text: 'Go', onTap: () => go()})`
	t.want, t.cause = verdict.Fail, script.Crashed
	return t
}

// backs takes the back key, or not, and shows something of it, or not.
func backs(r *rand.Rand) trial {
	takes, changes := r.IntN(2) == 0, r.IntN(2) == 0
	return trial{setup: fmt.Sprintf(`let n = 0; os.onBack(() => { if (%t) n++; return %t; });`, changes, takes),
		body:  `ui.text({text: 'Here ' + n})`,
		steps: []string{`press back`, `expect /^Here/`}, known: []string{`/^Here/`}, want: verdictOf(takes)}
}

func neverMatched(r *rand.Rand) trial {
	t := trial{body: `ui.button({id: 'pay', text: 'Pay'})`, steps: []string{[]string{`expect #typo`, `tap #typo`,
		`expect 2 #typo`, `expect number in #typo = 1`, `expect #typo shows "x"`}[r.IntN(5)]}}
	t.want, t.cause = verdict.Error, script.NeverMatched
	if r.IntN(2) == 0 {
		t.known, t.want, t.cause = []string{"#typo"}, verdict.Fail, script.Missing
	}
	return t
}

func ambiguous(r *rand.Rand) trial {
	n := 1 + r.IntN(3)
	t := trial{setup: fmt.Sprintf(`const n = %d;`, n),
		body:  `ui.column({}, Array.from({length: n}, () => ui.button({text: 'Go', onTap: () => {}})))`,
		steps: []string{[]string{`tap "Go"`, `expect button called "Go" shows "Go"`}[r.IntN(2)]}, want: verdict.Pass}
	if n > 1 {
		t.want, t.cause = verdict.Error, script.Ambiguous
	}
	return t
}

// scrolled has rows out of sight, which do not count.
func scrolled(r *rand.Rand) trial {
	step, ok := `expect last listitem shows "row 4"`, true
	if r.IntN(2) == 0 {
		step, ok = `expect last listitem shows "row 29"`, false
	}
	return trial{body: `ui.scroll({h: 250}, Array.from({length: 30}, (_, i) => ui.text({role: 'listitem', text: 'row ' + i, h: 50})))`, steps: []string{step}, want: verdictOf(ok)}
}

// uneven has elements of different heights in one row.
func uneven(r *rand.Rand) trial {
	n := 1 + r.IntN(3)
	want := []string{"A", "B", "C"}[n-1]
	return trial{setup: fmt.Sprintf(`const h = [%d, %d, %d];`, 20+r.IntN(60), 20+r.IntN(60), 20+r.IntN(60)),
		body:  `ui.row({align: 'center', gap: 8, h: 100}, ['A', 'B', 'C'].map((n, i) => ui.column({role: 'listitem', name: n, w: 60, h: h[i], ground: '#eeeeee'}, ui.text({text: n}))))`,
		steps: []string{fmt.Sprintf(`expect %s listitem shows %q`, []string{"1st", "2nd", "3rd"}[n-1], want)},
		want:  verdict.Pass}
}

func typed(r *rand.Rand) trial {
	word := []string{"Kujira", "Größe", "漢字"}[r.IntN(3)]
	return trial{setup: `let v = '';`, body: `ui.field({id: 'f', hint: 'Island', value: v, onInput: (x) => { v = x; }})`,
		steps: []string{fmt.Sprintf(`put %q in #f`, word), fmt.Sprintf(`expect %q`, word),
			fmt.Sprintf(`expect #f shows %q`,
				word)}, want: verdict.Pass}
}

func composed(r *rand.Rand) trial {
	pair := [][2]string{{"Jose\\u0301", "José"}, {"Ma\\u0308rz", "März"}, {"coração", "coração"}}[r.IntN(3)]
	step := []string{`expect "%s"`, `expect #n shows "%s"`, `expect /^%s$/`}[r.IntN(3)]
	return trial{setup: fmt.Sprintf(`const text = "%s";`, pair[0]), body: `ui.text({id: 'n', text})`,
		steps: []string{fmt.Sprintf(step, pair[1])}, want: verdict.Pass}
}

// showsNothing is an app that has started and shows nothing: its fault, not the device's.
func showsNothing(r *rand.Rand) trial {
	return trial{setup: `os.show(() => null);`, body: "", steps: []string{`expect "Go"`}, known: []string{`"Go"`},
		want: verdict.Fail}
}

// animated counts up to a figure, as totals do; what it passes is not what it shows.
func animated(r *rand.Rand) trial {
	end, asked := 40+r.IntN(60), 0
	if asked = end; r.IntN(2) == 0 {
		asked = end / 2
	}
	return trial{setup: fmt.Sprintf(`let n = 0; for (let i = 1; i <= %d; i++) os.after(i * 20, () => { n = i; });`,
		end),
		body:  `ui.text({id: 'n', text: String(n)})`,
		steps: []string{fmt.Sprintf(`expect number in #n = %d`, asked)}, want: verdictOf(asked == end)}
}

// leaves goes to the home screen by itself, as apps do that end.
func leaves(r *rand.Rand) trial {
	return trial{body: `ui.text({text: 'Here'})`, steps: []string{`expect "Here"`, `press home`,
		[]string{`expect "Here"`, `tap "Here"`}[r.IntN(2)]}, want: verdict.Fail}
}

// noise is something in a corner that changes by itself, and means nothing.
func noise(r *rand.Rand) (setup, body string) {
	switch r.IntN(4) {
	case 0:
		return fmt.Sprintf(`let ticks = 0; os.every(%d, () => { ticks++; });`, 30+r.IntN(250)),
			`ui.text({text: '~' + ticks, size: 10})`
	case 1:
		return fmt.Sprintf(`let on = true; os.every(%d, () => { on = !on; });`, 60+r.IntN(200)),
			`ui.text({text: on ? 'o' : ' ', size: 10, h: 14, w: 14})`
	case 2:
		return fmt.Sprintf(`let at = 0; os.every(%d, () => { at = (at + 3) %% 40; });`, 20+r.IntN(60)),
			`ui.row({h: 6}, ui.space({w: at, h: 6}), ui.space({w: 8, h: 6, ground: '#dd8800'}))`
	}
	return "", "null"
}

func (t trial) program(r *rand.Rand) string {
	setup, corner := noise(r)
	if t.body == "" {
		return t.setup
	}
	return setup + t.setup + ` os.show(() => ui.column({pad: 8, gap: 6}, ` + t.body + `, ` + corner + `));`
}

// trials gives what the seeds make, in order.
func trials(seeds int) (out []trial, programs []string) {
	for seed := range seeds {
		for i, kind := range kinds {
			r := rand.New(rand.NewPCG(uint64(seed), uint64(i)))
			t := kind(r)
			t.name = fmt.Sprintf("%s %d", kindNames[i], seed)
			out, programs = append(out, t), append(programs, t.program(r))
		}
	}
	return out, programs
}

var kindNames = strings.Fields(`appears vanishes toast answers staleScreen coveredUntil disabledUntil seeThrough underSheet reorders fills numbers noNumbers
	shows crashes backs neverMatched ambiguous scrolled uneven typed composed showsNothing animated leaves`)

// judgeAll runs trials on one stand-in and gives how each came out.
func judgeAll(t *testing.T, list []trial, programs []string) []script.Result {
	t.Helper()
	d := standin.New(standin.Config{Cutout: "none", Sandbox: []string{testbin.Program(t), sandbox.Argument},
		Device: fleet.Device{Name: "kaede-7-1", Kind: fleet.Emulator, Platform: "android", Model: "Kaede 7", OS: "14",
			Form: "phone", Width: 408, Height: 896, MemoryMB: 8192}})
	defer func() { require.NoError(t, d.Close()) }()
	ctx := context.Background()
	var out []script.Result
	for i, one := range list {
		language := one.language
		if language == "" {
			language = "en-GB"
		}
		put(t, d, programs[i])
		require.NoError(t, d.Ready(ctx, driver.Surroundings{Language: language}))
		d.SetChance(uint64(i))
		s, findings := script.Read("suite \"s\"\npatience 4s\ncase \"c\"\n" + strings.Join(one.steps, "\n") + "\nend\n")
		require.Zero(t, script.Faults(findings), "%s: %+v", one.name, findings)
		out = append(out, script.RunCase(ctx, s, s.Cases[0], d, script.Options{App: "example.other",
			Known: func(l string) bool {
				for _, k := range one.known {
					if k == l {
						return true
					}
				}
				return false
			}}, &pictures{t: t}))
	}
	return out
}

// A thousand verdicts on apps whose truth is known, none false; and the same ones on a
// machine that has other things to do.
func TestVerdictsOnAppsWhoseTruthIsKnown(t *testing.T) {
	seeds := 44
	if standin.RaceEnabled {
		seeds = 2
	}
	list, programs := trials(seeds)
	half := len(list) / 2
	results := make([][]script.Result, 2)
	var both sync.WaitGroup
	both.Go(func() { results[0] = judgeAll(t, list[:half], programs[:half]) })
	both.Go(func() { results[1] = judgeAll(t, list[half:], programs[half:]) })
	both.Wait()
	all := append(results[0], results[1]...)
	require.True(t, standin.RaceEnabled || len(all) >= 1000)
	wrong := 0
	for i, got := range all {
		if got.Verdict == list[i].want && (list[i].cause == "" || got.Failure != nil &&
			got.Failure.Cause == list[i].cause) {
			continue
		}
		if wrong++; wrong <= 12 {
			t.Errorf("%s: %s, not %s (%s)\n%s\n%s\n%+v", list[i].name, got.Verdict, list[i].want, list[i].cause,
				strings.Join(list[i].steps, "\n"), programs[i], got.Failure)
		}
	}
	require.Zero(t, wrong, "false verdicts of %d", len(all))

	devicetest.Busy(t)
	again := judgeAll(t, list[:min(half, len(kinds)*12)], programs) // on a device with the same past
	for i, got := range again {
		require.Equal(t, all[i], got, "%s under load", list[i].name)
	}
}
