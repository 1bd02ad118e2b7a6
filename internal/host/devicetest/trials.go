package devicetest

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
)

// Trial is a small app of which the truth is known, and a case about it.
type Trial struct {
	Name    string
	Program string // the app, for a stand-in or packed for the web
	Want    verdict.Verdict
	trial
}

type trial struct {
	setup    string // run when the app starts
	body     string // an expression that gives its elements
	steps    []string
	known    []string
	language string
	want     verdict.Verdict
	cause    script.Cause // "" for any
}

// chance is what a trial is made of. What happens by the clock happens this much, in milliseconds,
// on one side of what is waited for or the other: on a device whose time is the machine's, more.
type chance struct {
	*rand.Rand
	slack int
}

// trialPatience is what the cases of trials have.
const trialPatience = 4 * time.Second

// kinds make trials from chance: each knows what its app does when, and so what is true. Races are
// those in which the app changes while the case is under way.
var kinds = []struct {
	name string
	race bool
	make func(r chance) trial
}{
	{"appears", true, appears}, {"vanishes", true, vanishes}, {"toast", true, toast}, {"answers", true, answers},
	{"stale screen", false, staleScreen}, {"covered until", true, coveredUntil},
	{"disabled until", true, disabledUntil},
	{"see-through", false, seeThrough}, {"under a sheet", false, underSheet}, {"reorders", true, reorders},
	{"fills", true, fills},
	{"numbers", false, numbers}, {"no numbers", false, noNumbers}, {"shows", false, shows}, {"crashes", false, crashes},
	{"backs", false, backs}, {"never matched", false, neverMatched}, {"ambiguous", false, ambiguous},
	{"scrolled", false, scrolled},
	{"uneven", false, uneven}, {"typed", false, typed}, {"composed", false, composed},
	{"shows nothing", false, showsNothing},
	{"animated", true, animated}, {"leaves", false, leaves}, {"wanders", true, wanders}, {"stays", true, stays},
	{"came up", true, cameUp}, {"swaps", true, swaps}, {"whole", true, whole}, {"enabled", true, enabled},
	{"branches", true, branches},
	{"by path", true, byPath}, {"beside", false, beside},
}

// moment is a time on one side of patience or the other, not within a frame of it.
func moment(r chance) (at int, inTime bool) {
	patience := int(trialPatience.Milliseconds())
	if r.IntN(2) == 0 {
		return 100 + r.IntN(patience-500-r.slack), true
	}
	return patience + 150 + r.slack + r.IntN(2500), false
}

func verdictOf(pass bool) verdict.Verdict {
	if pass {
		return verdict.Pass
	}
	return verdict.Fail
}

func appears(r chance) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let there = false; os.after(%d, () => { there = true; });`, at),
		body:  `there && ui.text({text: 'Arrived'})`,
		steps: []string{`expect "Arrived"`}, known: []string{`"Arrived"`}, want: verdictOf(ok)}
}

func vanishes(r chance) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let there = true; os.after(%d, () => { there = false; });`, at),
		body:  `there && ui.text({text: 'Boarding'})`,
		steps: []string{`expect no "Boarding"`}, want: verdictOf(ok)}
}

// toast stands for a while and goes by itself.
func toast(r chance) trial {
	at, lasts := 50+r.IntN(1500), 900+r.slack+r.IntN(2500)
	return trial{setup: fmt.Sprintf(`let said = ''; function go() { os.after(%d, () => { said = 'Saved'; }); os.after(%d, () => { said = ''; }); }`, at, at+lasts),
		body:  `ui.button({id: 'go', text: 'Go', onTap: go}), said && ui.text({role: 'status', text: said})`,
		steps: []string{`tap #go`, `expect "Saved"`}, want: verdict.Pass}
}

// answers asks over the network: until it has answered nothing is proved.
func answers(r chance) trial {
	at, ok := moment(r)
	wanted := []string{`expect "42 seats"`, `expect no "Loading"`, `expect number in #seats = 42`,
		`expect at least 1 listitem`}[r.IntN(4)]
	return trial{setup: fmt.Sprintf(`let seats = 0, asked = false; function go() { asked = true; os.request(%d, () => { seats = 42; }); }`, at),
		body:  `ui.button({id: 'go', text: 'Go', onTap: go}), asked && !seats && ui.text({text: 'Loading'}), seats && ui.text({id: 'seats', role: 'listitem', text: seats + ' seats'})`,
		steps: []string{`tap #go`, wanted}, known: []string{`"42 seats"`, `#seats`, "listitem"}, want: verdictOf(ok)}
}

// staleScreen shows already what is expected, and awaits an answer for ever.
func staleScreen(r chance) trial {
	step := []string{`expect "Total"`, `expect no "Refused"`, `expect #total shows "5"`, `expect number in #total = 5`,
		`expect 1 heading`}[r.IntN(5)]
	return trial{setup: `function go() { os.request(60000, () => {}); }`,
		body:  `ui.button({id: 'go', text: 'Go', onTap: go}), ui.text({role: 'heading', text: 'Total'}), ui.text({id: 'total', text: '5'})`,
		steps: []string{`tap #go`, step}, want: verdict.Fail, cause: script.Awaited}
}

func coveredUntil(r chance) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let covered = true, done = false; os.after(%d, () => { covered = false; });`, at),
		body: `ui.stack({w: 300, h: 300}, ui.column({}, ui.button({id: 'go', text: 'Go', onTap: () => { done = true; }}), done && ui.text({text: 'Done'})),
			covered && ui.column({ground: '#336699', id: 'sheet'}, ui.text({text: 'Please wait'})))`,
		steps: []string{`tap #go`, `expect "Done"`}, known: []string{`"Done"`}, want: verdictOf(ok)}
}

func disabledUntil(r chance) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let off = true, done = false; os.after(%d, () => { off = false; });`, at),
		body:  `ui.button({id: 'go', text: 'Go', disabled: off, onTap: () => { done = true; }}), done && ui.text({text: 'Done'})`,
		steps: []string{`tap "Go"`, `expect "Done"`}, known: []string{`"Done"`}, want: verdictOf(ok)}
}

// seeThrough lays something over everything that neither hides nor takes a touch.
func seeThrough(r chance) trial {
	return trial{setup: `let done = false;`,
		body: `ui.stack({w: 300, h: 300}, ui.column({}, ui.button({id: 'go', text: 'Go', onTap: () => { done = true; }}), done && ui.text({text: 'Done'})),
			ui.column({spread: 'end', h: 300}, ui.text({text: 'a hint at the foot'})))`,
		steps: []string{`tap #go`, `expect "Done"`}, want: verdict.Pass}
}

// underSheet has things under an opaque sheet, which nobody sees.
func underSheet(r chance) trial {
	step := []string{`expect no "Old price"`, `tap button called "Pay"`, `expect 1 button called "Pay"`,
		`expect "Old price"`}[r.IntN(4)]
	return trial{setup: `let paid = 0;`,
		body: `ui.stack({w: 300, h: 300}, ui.column({}, ui.text({text: 'Old price'}), ui.button({text: 'Pay', onTap: () => { paid = 1; }})),
			ui.column({ground: '#ffffff', h: 300}, ui.text({text: 'New price'}), ui.button({text: 'Pay', onTap: () => { paid = 2; }})))`,
		steps: []string{step}, known: []string{`"Old price"`}, want: verdictOf(step != `expect "Old price"`)}
}

func reorders(r chance) trial {
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
func fills(r chance) trial {
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
func numbers(r chance) trial {
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

func noNumbers(r chance) trial {
	texts := []string{"Bed B-12", "5'6\"", "2026-11-25", "3 of 5", "10:30", "B12", "99+", "1.2k", "free", "1 to 4",
		"12A", "1,50,2"}
	return trial{setup: fmt.Sprintf("const text = %q;", texts[r.IntN(len(texts))]), body: `ui.text({id: 'n', text})`,
		steps: []string{fmt.Sprintf(`expect number in #n = %d`, r.IntN(20))}, want: verdict.Fail,
		cause: script.NotANumber}
}

func shows(r chance) trial {
	c := []struct {
		text, wanted string
		ok           bool
	}{{"5 plants", "5", false}, {"5", "5", true}, {"5.0", "5", true}, {"€5", "5", false}, {"Pay  now", `"Pay now"`,
		true}, {"Pay now!", `"Pay now"`, false}, {"1,000", "1000", true}, {"10%", "10", false}}[r.IntN(8)]
	return trial{setup: fmt.Sprintf("const text = %q;", c.text), body: `ui.text({id: 'n', text})`,
		steps: []string{"expect #n shows " + c.wanted}, want: verdictOf(c.ok)}
}

// crashes wherever an app can, with whatever can be thrown.
func crashes(r chance) trial {
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
func backs(r chance) trial {
	takes, changes := r.IntN(2) == 0, r.IntN(2) == 0
	return trial{setup: fmt.Sprintf(`let n = 0; os.onBack(() => { if (%t) n++; return %t; });`, changes, takes),
		body:  `ui.text({text: 'Here ' + n})`,
		steps: []string{`press back`, `expect /^Here/`}, known: []string{`/^Here/`}, want: verdictOf(takes)}
}

func neverMatched(r chance) trial {
	t := trial{body: `ui.button({id: 'pay', text: 'Pay'})`, steps: []string{[]string{`expect #typo`, `tap #typo`,
		`expect 2 #typo`, `expect number in #typo = 1`, `expect #typo shows "x"`}[r.IntN(5)]}}
	t.want, t.cause = verdict.Error, script.NeverMatched
	if r.IntN(2) == 0 {
		t.known, t.want, t.cause = []string{"#typo"}, verdict.Fail, script.Missing
	}
	return t
}

func ambiguous(r chance) trial {
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
func scrolled(r chance) trial {
	step, ok := `expect last listitem shows "row 4"`, true
	if r.IntN(2) == 0 {
		step, ok = `expect last listitem shows "row 29"`, false
	}
	return trial{body: `ui.scroll({h: 250}, Array.from({length: 30}, (_, i) => ui.text({role: 'listitem', text: 'row ' + i, h: 50})))`, steps: []string{step}, want: verdictOf(ok)}
}

// uneven has elements of different heights in one row.
func uneven(r chance) trial {
	n := 1 + r.IntN(3)
	want := []string{"A", "B", "C"}[n-1]
	return trial{setup: fmt.Sprintf(`const h = [%d, %d, %d];`, 20+r.IntN(60), 20+r.IntN(60), 20+r.IntN(60)),
		body:  `ui.row({align: 'center', gap: 8, h: 100}, ['A', 'B', 'C'].map((n, i) => ui.column({role: 'listitem', name: n, w: 60, h: h[i], ground: '#eeeeee'}, ui.text({text: n}))))`,
		steps: []string{fmt.Sprintf(`expect %s listitem shows %q`, []string{"1st", "2nd", "3rd"}[n-1], want)},
		want:  verdict.Pass}
}

func typed(r chance) trial {
	word := []string{"Kujira", "Größe", "漢字"}[r.IntN(3)]
	return trial{setup: `let v = '';`, body: `ui.field({id: 'f', hint: 'Island', value: v, onInput: (x) => { v = x; }})`,
		steps: []string{fmt.Sprintf(`set #f to %q`, word), fmt.Sprintf(`expect %q`, word),
			fmt.Sprintf(`expect #f shows %q`,
				word)}, want: verdict.Pass}
}

func composed(r chance) trial {
	pair := [][2]string{{"Jose\\u0301", "José"}, {"Ma\\u0308rz", "März"}, {"coração", "coração"}}[r.IntN(3)]
	step := []string{`expect "%s"`, `expect #n shows "%s"`, `expect /^%s$/`}[r.IntN(3)]
	return trial{setup: fmt.Sprintf(`const text = "%s";`, pair[0]), body: `ui.text({id: 'n', text})`,
		steps: []string{fmt.Sprintf(step, pair[1])}, want: verdict.Pass}
}

// showsNothing is an app that has started and shows nothing: its fault, not the device's.
func showsNothing(r chance) trial {
	return trial{setup: `os.show(() => null);`, body: "", steps: []string{`expect "Go"`}, known: []string{`"Go"`},
		want: verdict.Fail}
}

// animated counts up to a figure, as totals do; what it passes is not what it shows.
func animated(r chance) trial {
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
func leaves(r chance) trial {
	return trial{body: `ui.text({text: 'Here'})`, steps: []string{`expect "Here"`, `press home`,
		[]string{`expect "Here"`, `tap "Here"`}[r.IntN(2)]}, want: verdict.Fail}
}

// wanders moves a button about until a moment, or beyond all patience: a tap meets it all the same.
// By the machine's clock it may move between being looked at and being touched, and ends in time.
func wanders(r chance) trial {
	at, inTime := moment(r)
	if !inTime && r.slack > 0 {
		at = 100 + at%2400
	}
	return trial{setup: fmt.Sprintf(`let x = 0, done = false, going = true; os.every(70, () => { if (going) x = (x + 37) %% 200; }); os.after(%d, () => { going = false; });`, at),
		body:  `ui.row({}, ui.space({w: x, h: 40}), ui.button({id: 'go', text: 'Go', onTap: () => { done = true; }})), done && ui.text({text: 'Done'})`,
		steps: []string{`tap #go`, `expect "Done"`}, known: []string{`"Done"`}, want: verdict.Pass}
}

// stays is there from the start until a moment.
func stays(r chance) trial {
	lasts, ok := 2200+r.slack+r.IntN(1500), true
	if r.IntN(2) == 0 {
		lasts, ok = 100+r.IntN(500), false
	}
	return trial{setup: fmt.Sprintf(`let there = true; os.after(%d, () => { there = false; });`, lasts),
		body: `there && ui.text({text: 'Boarding'})`, steps: []string{`expect "Boarding" for 1s`},
		known: []string{`"Boarding"`}, want: verdictOf(ok)}
}

// cameUp says something for a moment, or never, before it is asked for.
func cameUp(r chance) trial {
	said, lasts := r.IntN(2) == 0, 250+r.slack/2+r.IntN(600)
	return trial{setup: fmt.Sprintf(`let said = '', done = false; function go() { os.after(60, () => { if (%t) said = 'Saved'; }); os.after(%d, () => { said = ''; done = true; }); }`, said, 60+lasts),
		body:  `ui.button({id: 'go', text: 'Go', onTap: go}), said && ui.text({role: 'status', text: said}), done && ui.text({text: 'Done'})`,
		steps: []string{`tap #go`, `expect "Done"`, `expect "Saved" came up`}, known: []string{`"Saved"`, `"Done"`},
		want: verdictOf(said)}
}

// swaps puts two labels in each other's places, and the button beside one is asked for.
func swaps(r chance) trial {
	names, wanted := []string{"Sora", "Minami"}, r.IntN(2)
	return trial{setup: fmt.Sprintf(`let names = %q.split(','), picked = ''; os.after(%d, () => names.reverse());`,
		strings.Join(names, ","), 50+r.IntN(200)),
		body: `ui.column({gap: 30}, [0, 1].map((i) => ui.row({gap: 12, h: 40}, ui.text({text: names[i]}), ui.button({text: 'Book', onTap: () => { picked = names[i]; }})))), picked && ui.text({id: 'picked', text: picked})`,
		steps: []string{fmt.Sprintf(`tap button near %q`, names[wanted]), fmt.Sprintf(`expect #picked shows %q`,
			names[wanted])}, known: []string{"#picked"}, want: verdict.Pass}
}

// whole has a part of something under a sheet until a moment.
func whole(r chance) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let covered = true; os.after(%d, () => { covered = false; });`, at),
		body:  `ui.stack({w: 300, h: 300}, ui.text({id: 'fare', text: 'Three euro fifteen'}), covered && ui.row({w: 60, h: 300, ground: '#336699'}, ui.text({text: '…'})))`,
		steps: []string{`expect #fare is whole`}, want: verdictOf(ok)}
}

func enabled(r chance) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let off = true; os.after(%d, () => { off = false; });`, at),
		body:  `ui.button({id: 'go', text: 'Go', disabled: off, onTap: () => {}})`,
		steps: []string{`expect #go is enabled`}, want: verdictOf(ok)}
}

// branches shows one thing or another once it has an answer; the branch is taken by what it is.
func branches(r chance) trial {
	full := r.IntN(2) == 0
	return trial{setup: fmt.Sprintf(`let seats = '', way = ''; os.request(%d, () => { seats = %t ? 'Full' : 'Seats'; });`, 50+r.IntN(1500), full),
		body: `ui.text({text: seats || 'Loading'}), ui.button({text: 'Wait', onTap: () => { way = 'waits'; }}), ui.button({text: 'Book', onTap: () => { way = 'books'; }}), way && ui.text({id: 'way', text: way})`,
		steps: []string{`if "Full"`, `tap "Wait"`, `else`, `tap "Book"`, `end`, fmt.Sprintf(`expect #way shows %q`,
			map[bool]string{true: "waits", false: "books"}[full])},
		known: []string{`"Full"`, "#way"}, want: verdict.Pass}
}

func byPath(r chance) trial {
	at, ok := moment(r)
	return trial{setup: fmt.Sprintf(`let n = 1; os.after(%d, () => { n = 3; });`, at),
		body:  `ui.column({role: 'list', id: 'rows'}, Array.from({length: n}, (_, i) => ui.text({role: 'listitem', text: 'row ' + i})))`,
		steps: []string{`expect xpath "//list[@id='rows']/listitem[3]"`},
		known: []string{`xpath "//list[@id='rows']/listitem[3]"`}, want: verdictOf(ok)}
}

// beside is what lies above or below something else, or does not.
func beside(r chance) trial {
	up := r.IntN(2) == 0
	return trial{setup: fmt.Sprintf(`const list = %t ? ['a', 'b'] : ['b', 'a'];`, up),
		body:  `ui.column({gap: 10}, list.map((n) => ui.text({id: n, text: n.toUpperCase()})))`,
		steps: []string{`expect #a is above #b`}, want: verdictOf(up)}
}

// noise is something in a corner that changes by itself, and means nothing.
func noise(r chance) (setup, body string) {
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

func (t trial) program(r chance) string {
	setup, corner := noise(r)
	if t.body == "" {
		return t.setup
	}
	return setup + t.setup + ` os.show(() => ui.column({pad: 8, gap: 6}, ` + t.body + `, ` + corner + `));`
}

// Trials gives n trials: of every kind, or, on a device whose time is the machine's, of races alone.
func Trials(n int, real bool) (out []Trial) {
	for seed := 0; len(out) < n; seed++ {
		for i, kind := range kinds {
			if len(out) == n || real && !kind.race {
				continue
			}
			r := chance{Rand: rand.New(rand.NewPCG(uint64(seed), uint64(i)))}
			if real {
				r.slack = 1300
			}
			t := kind.make(r)
			out = append(out, Trial{fmt.Sprintf("%s %d", kind.name, seed), t.program(r), t.want, t})
		}
	}
	return out
}

// Kinds is how many kinds of trials there are.
func Kinds() int { return len(kinds) }

// Enough is how many trials are made: usually n, or as many as YAMATO_TRIALS says.
func Enough(n int) int {
	if said, err := strconv.Atoi(os.Getenv("YAMATO_TRIALS")); err == nil && said > 0 {
		return said
	}
	return n
}

// Judge runs the case of a trial on a device on which its app is installed and which is ready.
func (t Trial) Judge(ctx context.Context, d device.Device, app string, to script.Recorder) (script.Result, error) {
	s, findings := script.Read("suite \"s\"\npatience 4s\ncase \"c\"\n" + strings.Join(t.steps, "\n") + "\nend\n")
	if script.Faults(findings) > 0 {
		return script.Result{}, fmt.Errorf("%s: %+v", t.Name, findings)
	}
	return script.RunCase(ctx, s, s.Cases[0], d, script.Options{App: app,
		Known: func(l string) bool { return slices.Contains(t.known, l) }}, to), nil
}

// Wrong tells what is wrong with how a trial came out, "" for nothing.
func (t Trial) Wrong(got script.Result) string {
	if got.Verdict == t.want && (t.cause == "" || got.Failure != nil && got.Failure.Cause == t.cause) {
		return ""
	}
	return fmt.Sprintf("%s: %s, not %s (%s)\n%s\n%s\n%+v", t.Name, got.Verdict, t.want, t.cause,
		strings.Join(t.steps, "\n"), t.Program, got.Failure)
}

// Language is what the device is set to.
func (t Trial) Language() string { return cmp.Or(t.language, "en-GB") }
