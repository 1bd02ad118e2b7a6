package standin_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/testbin"
)

// phone gives a stand-in with an app of this program installed.
func phone(t *testing.T, program string) *standin.Device { return phoneThatComputes(t, program, 0) }

// phoneThatComputes is one whose app may compute for so long in one case, 0 for as long as
// others.
func phoneThatComputes(t *testing.T, program string, limit time.Duration) *standin.Device {
	t.Helper()
	d := standin.New(standin.Config{CaseCPU: limit, Cutout: "none", Sandbox: []string{testbin.Program(t),
		sandbox.Argument},
		Device: fleet.Device{Name: "kaede-mini-1", Kind: fleet.Emulator, Platform: "android", Model: "Kaede Mini",
			OS:   "14",
			Form: "phone", Width: 316, Height: 632, MemoryMB: 2048}})
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	put(t, d, program)
	return d
}

func put(t *testing.T, d *standin.Device, program string, declared ...string) {
	t.Helper()
	data, err := demo.PackAndroid(demo.App{ID: "example.other", Name: "Other", Version: demo.Version{Name: "1.0",
		Code: 1}, MinimumAPI: 30, Program: []byte(program), Permissions: declared})
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "a.apk")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	p, err := appfile.Read(f, int64(len(data)))
	require.NoError(t, err)
	require.NoError(t, d.Ready(context.Background(), driver.Terms{}))
	require.NoError(t, d.Install(context.Background(), driver.App{Package: *p, Path: path}))
}

func TestAHostileOrRunawayProgramHarmsItsOwnDeviceAlone(t *testing.T) {
	for name, c := range map[string]struct{ program, says string }{
		"throws":            {`throw new Error('no good')`, "no good"},
		"does not parse":    {`let let = ;`, "SyntaxError"},
		"never ends":        {`for (;;) {}`, "stopped answering"},
		"native never ends": {`/^(a+)+\1c$/.test('a'.repeat(60) + 'b')`, "stopped answering"},
		"eats memory":       {`const all = []; for (;;) all.push(new ArrayBuffer(5e7))`, "memory"},
		"one huge string":   {`let s = 'x'; for (;;) s = s + s + 'y'; os.show(() => ui.text({text: s}))`, ""},
		"recurses":          {`(function f() { f(); })()`, "itself too deeply"},
		"shows a circle":    {`const a = ui.column(); a.kids.push(a); os.show(() => a)`, ""},
		"shows too much":    {`os.show(() => ui.column({}, Array.from({length: 20000}, (_, i) => ui.text({text: 'n' + i}))))`, "more than"},
		"shows nonsense":    {`os.show(() => ({t: 'text', size: 'huge', kids: 3}))`, ""},
		"sets many timers":  {`for (let i = 0; i < 1e6; i++) os.after(1000, () => {})`, "timers"},
		"asks for the moon": {`os.ask('the moon', () => {})`, "there is not"},
		"asks without end":  {`for (;;) os.choose(() => {})`, "asks the system"},
		"requests in bulk":  {`os.request({ms: 1, address: 'x'.repeat(1e5)}, () => {})`, "a request is described"},
		"keeps too much":    {`os.store.set('a', 'x'.repeat(3e6))`, "keeps"},
		"floods the log":    {`const y = 'y'.repeat(1e4); for (let i = 0; i < 2e4; i++) os.log('info', 'x', y); throw new Error('done')`, "done"},
		"breaks its world":  {`JSON.stringify = null; Array.prototype.map = null; os.show(() => ui.column({}, ui.text({text: 'x'})))`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			d := phone(t, c.program)
			ctx := context.Background()
			err := d.Start(ctx, "example.other", device.Fresh)
			var crash *device.Crash
			require.True(t, errors.As(err, &crash), "%v", err)
			require.Contains(t, crash.Error()+crash.Report, c.says)
			_, err = d.Tree(ctx)
			require.ErrorAs(t, err, &crash, "until the app is started again")

			put(t, d, `os.show(() => ui.text({text: 'well again'}))`)
			require.NoError(t, d.Start(ctx, "example.other", device.Fresh),
				"the device takes the next app as if nothing had been")
			tree, err := d.Tree(ctx)
			require.NoError(t, err)
			require.Len(t, screen.Locator{Label: screen.Match{Text: "well again"}}.Find(tree), 1)
		})
	}
}

func TestAProgramReachesNothingOutsideItsWorld(t *testing.T) {
	d := phone(t, `const found = ['require', 'process', 'fetch', 'XMLHttpRequest', 'console', 'load', 'Deno'].filter((n) => typeof globalThis[n] !== 'undefined');
		os.show(() => ui.text({id: 'found', text: found.join() || 'nothing'}))`)
	require.NoError(t, d.Start(context.Background(), "example.other", device.Fresh))
	tree, err := d.Tree(context.Background())
	require.NoError(t, err)
	require.Equal(t, "nothing", screen.Locator{ID: "found"}.Find(tree)[0].Text)
}

// memo is a small app quite unlike the sample one: a list of notes, with a
// dialog, a switch, a timer, kept data and the back key.
const memo = `
let notes = os.store.get('notes') || [], draft = '', asking = null, urgent = false, seconds = 0;
os.every(1000, () => { seconds++; });
function add() { if (!draft) return; notes = notes.concat([{ text: draft, urgent }]); draft = ''; os.store.set('notes', notes); os.log('info', 'memo', 'kept ' + notes.length); }
os.onBack(() => { if (asking === null) return false; asking = null; return true; });
os.show(() => ui.stack({ ground: '#101418' },
  ui.column({ pad: 12, gap: 8 },
    ui.text({ role: 'heading', text: 'Memo', size: 22, face: 'bold', ink: '#ffffff' }),
    ui.text({ role: 'timer', id: 'clock', text: seconds + ' s', ink: '#aab4bf' }),
    ui.field({ id: 'draft', hint: 'Write a note', value: draft, onInput: (v) => { draft = v; }, onEnter: add, ground: '#ffffff', pad: 8 }),
    ui.row({ gap: 8 },
      ui.button({ role: 'switch', text: urgent ? 'Urgent' : 'Plain', checked: String(urgent), onTap: () => { urgent = !urgent; }, ink: '#ffffff', pad: 8, line: '#55606b' }),
      ui.button({ text: 'Keep', onTap: add, disabled: !draft, ground: '#e8c547', pad: 8 })),
    ui.scroll({ id: 'notes', role: 'list', gap: 4 }, notes.map((n, i) => ui.row({ role: 'listitem', gap: 8, align: 'center' },
      ui.text({ text: (n.urgent ? '! ' : '') + n.text, grow: 1, ink: '#ffffff' }),
      ui.button({ text: 'Drop', name: 'Drop ' + n.text, onTap: () => { asking = i; }, ink: '#ff9b85' }))))),
  asking === null ? null : ui.column({ ground: '#000000b0', spread: 'center', align: 'center' },
    ui.column({ role: 'dialog', name: 'Drop it?', ground: '#ffffff', pad: 16, gap: 8 },
      ui.text({ text: 'Drop ' + notes[asking].text + '?' }),
      ui.button({ text: 'Yes, drop it', onTap: () => { notes.splice(asking, 1); os.store.set('notes', notes); asking = null; } })))));
`

const memoSuite = `suite "Memo"
case "notes are kept and dropped"
  start app fresh
  type "milk" into #draft
  press enter
  set #draft to "ferry at nine"
  tap switch
  tap "Keep"
  expect 2 listitem in #notes
  expect "! ferry at nine"
  tap button called "Drop milk"
  expect dialog called "Drop it?"
  press back
  expect no dialog
  tap button called "Drop milk"
  tap "Yes, drop it"
  expect 1 listitem in #notes
  expect no "milk"
end
case "notes outlive the app"
  start app fresh
  type "bread" into #draft
  press enter
  press home
  expect no heading called "Memo"
  start app
  expect "bread" in #notes
  expect number in #clock > 0
end
case "what a dialog covers cannot be touched"
  start app fresh
  type "bread" into #draft
  press enter
  tap button called "Drop bread"
  tap #draft within 1s
end
case "there is nothing to keep at first"
  start app fresh
  tap "Keep" within 1s
end
`

func TestAQuiteDifferentAppRunsOnTheSameStandIns(t *testing.T) {
	s, findings := script.Read(memoSuite)
	require.Zero(t, script.Faults(findings), "%+v", findings)
	d := phone(t, memo)
	want := []struct {
		verdict verdict.Verdict
		says    string
	}{{verdict.Pass, ""}, {verdict.Pass, ""}, {verdict.Fail, "covered by"}, {verdict.Fail, "disabled"}}
	for i := range s.Cases {
		rec := &pictures{t: t, dir: os.Getenv("YAMATO_TEST_PICTURES")}
		r := script.RunCase(context.Background(), s, s.Cases[i], d, script.Options{App: "example.other"}, rec)
		require.Equal(t, want[i].verdict, r.Verdict, "%s: %+v", s.Cases[i].Name, r.Failure)
		if want[i].says != "" {
			require.Contains(t, r.Failure.Actual, want[i].says)
			require.Positive(t, rec.count, "the failure is pictured")
		}
	}
}

func TestTheClockIsVirtualAndARunIsAFunctionOfItsSeed(t *testing.T) {
	program := `let n = 0; const draws = []; os.after(3600 * 1000, () => { draws.push(Math.random()); n = 1; });
		os.show(() => ui.text({id: 'n', text: n + ' ' + draws.join() + ' ' + new Date().toISOString()}))`
	show := func(seed uint64) string {
		d := phone(t, program)
		d.SetChance(seed)
		ctx := context.Background()
		require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
		tree, err := d.Tree(ctx)
		require.NoError(t, err)
		require.NoError(t, d.AwaitChange(ctx, tree.Revision, d.Now()+2*time.Hour), "an hour passes at once")
		tree, err = d.Tree(ctx)
		require.NoError(t, err)
		return screen.Locator{ID: "n"}.Find(tree)[0].Text
	}
	require.Equal(t, show(7), show(7))
	require.NotEqual(t, show(7), show(8))
}

func TestEveryLanguageFitsTheNarrowestScreen(t *testing.T) {
	for _, language := range []string{"en-GB", "de-DE", "pt-PT"} {
		source, err := demo.Program(demo.Versions[0])
		require.NoError(t, err)
		d := phone(t, string(source))
		ctx := context.Background()
		require.NoError(t, d.Ready(ctx, driver.Terms{}))
		require.NoError(t, d.SetLanguage(ctx, language))
		require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
		tree, err := d.Tree(ctx)
		require.NoError(t, err)
		require.Equal(t, language, tree.Language)
		tabs := screen.Locator{Role: "tab"}.Find(tree)
		require.Len(t, tabs, 4)
		for _, tab := range tabs {
			require.Equal(t, tab.Bounds, tab.Visible, "%s: the tab %q is whole", language, tab.Name)
		}
	}
}

// TestTheSumIsRunIntoOnNarrowScreensInGermanAlone lays an order of 3.2.0 out with real measures.
func TestTheSumIsRunIntoOnNarrowScreensInGermanAlone(t *testing.T) {
	overlaps := func(v demo.Version, language string) bool {
		source, err := demo.Program(v)
		require.NoError(t, err)
		d := phone(t, string(source))
		ctx := context.Background()
		require.NoError(t, d.Ready(ctx, driver.Terms{}))
		require.NoError(t, d.SetLanguage(ctx, language))
		require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
		tree, err := d.Tree(ctx)
		require.NoError(t, err)
		require.NoError(t, d.Tap(ctx, screen.Locator{Role: "tab"}.Find(tree)[1].Visible.Centre()))
		label, sum := found(t, d, screen.Locator{ID: "total-label"}).Bounds,
			found(t, d, screen.Locator{ID: "total"}).Bounds
		return label.X+label.W > sum.X
	}
	require.True(t, overlaps(demo.Versions[1], "de-DE"))
	require.False(t, overlaps(demo.Versions[1], "en-GB"))
	require.False(t, overlaps(demo.Versions[1], "pt-PT"))
	require.False(t, overlaps(demo.Versions[0], "de-DE"))
	require.False(t, overlaps(demo.Newest, "de-DE"))
}

// A turn that nobody waits for any more ends the child; what it takes is nothing then.
func TestAChildThatIsNoMoreTakesNothing(t *testing.T) {
	d := phone(t, `os.show(() => ui.button({id: 'go', text: 'Go', onTap: () => { for (;;) {} }}))`)
	ctx := context.Background()
	require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
	brief, stop := context.WithTimeout(ctx, 100*time.Millisecond)
	defer stop()
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	var b screen.Rect
	tree.Walk(func(n *screen.Node, _ int) bool {
		if n.ID == "go" {
			b = n.Bounds
		}
		return true
	})
	require.Error(t, d.Tap(brief, screen.Point{X: b.X + b.W/2, Y: b.Y + b.H/2}))
	list, err := d.Readings(ctx)
	require.NoError(t, err)
	for _, r := range list {
		if r.Name == "memory" || r.Name == "cpu" {
			require.Zero(t, r.Value, r.Name)
		}
	}
}

// A host that runs as root has each app run as a user of its own: one that got out of its world would be nobody there.
func TestAnAppOfARootHostIsAUserOfItsOwn(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("this is about hosts that run as root")
	}
	const program = `os.show(() => ui.text({text: 'here'}))`
	for range 2 {
		require.NoError(t, phone(t, program).Start(context.Background(), "example.other", device.Fresh))
	}
	users := map[string]bool{}
	list, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", os.Getpid()))
	require.NoError(t, err)
	for _, path := range list {
		children, _ := os.ReadFile(path)
		for _, pid := range strings.Fields(string(children)) {
			command, _ := os.ReadFile("/proc/" + pid + "/cmdline")
			status, _ := os.ReadFile("/proc/" + pid + "/status")
			if strings.HasSuffix(strings.TrimRight(string(command), "\x00"), sandbox.Argument) {
				_, user, _ := strings.Cut(string(status), "\nUid:\t")
				_, groups, _ := strings.Cut(string(status), "\nGroups:\t")
				user, _, _ = strings.Cut(user, "\n")
				groups, _, _ = strings.Cut(groups, "\n")
				require.Empty(t, strings.TrimSpace(groups))
				users[user] = true
			}
		}
	}
	require.Len(t, users, 2, "%v", users)
	for user := range users {
		require.NotRegexp(t, `\b0\b`, user)
	}
}
