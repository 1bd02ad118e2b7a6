package standin_test

import (
	"bytes"
	"context"
	"errors"
	"image"
	_ "image/jpeg" // frames come so
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
)

const mayLocate = "android.permission.ACCESS_FINE_LOCATION"

// app is a phone with a program in front, whose package declares what it wants.
func app(t *testing.T, program string, declared ...string) (context.Context, *standin.Device) {
	t.Helper()
	ctx, d := context.Background(), one(t, fleet.Emulator, "android", standin.State{})
	put(t, d, program, declared...)
	require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
	return ctx, d
}

// found gives the one element that a locator finds.
func found(t *testing.T, d *standin.Device, l screen.Locator) *screen.Node {
	t.Helper()
	tree, err := d.Tree(context.Background())
	require.NoError(t, err)
	list := l.Find(tree)
	require.Len(t, list, 1, "%+v", l)
	return list[0]
}

// labelled is what people would call so.
func labelled(text string) screen.Locator {
	return screen.Locator{Role: "button", Called: screen.Match{Text: text}}
}

func touch(t *testing.T, d *standin.Device, l screen.Locator) {
	t.Helper()
	require.NoError(t, d.Tap(context.Background(), found(t, d, l).Visible.Centre()))
}

// passing lets the device's time go by.
func passing(t *testing.T, d *standin.Device, by time.Duration) {
	t.Helper()
	for end := d.Now() + by; d.Now() < end; {
		tree, err := d.Tree(context.Background())
		require.NoError(t, err)
		require.NoError(t, d.AwaitChange(context.Background(), tree.Revision, end))
	}
}

const locating = `let at = '-'
os.show(() => ui.column({ground: '#ffffff'}, ui.text({id: 'at', text: at}),
  ui.button({id: 'ask', text: 'Ask', onTap: () => os.place((p, why) => { at = p ? 'found' : why }) })))`

func TestWhatAnAppAsksForIsAQuestionOnTheScreen(t *testing.T) {
	ctx, d := app(t, locating, mayLocate)
	touch(t, d, screen.Locator{ID: "ask"})
	question := found(t, d, screen.Locator{Role: "alertdialog"})
	require.Equal(t, "Allow “Other” to know where this device is?", question.Name)
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	require.Equal(t, "example.other", tree.App, "the app is in front, behind the question")
	passing(t, d, 10*time.Second)
	require.NoError(t, d.Tap(ctx, screen.Point{X: 20, Y: 60}), "what is under it takes no touch")
	require.Equal(t, "-", found(t, d, screen.Locator{ID: "at"}).Text, "nobody has answered")

	touch(t, d, labelled("Don’t allow"))
	passing(t, d, time.Second)
	require.Equal(t, "refused", found(t, d, screen.Locator{ID: "at"}).Text)
	touch(t, d, screen.Locator{ID: "ask"})
	passing(t, d, time.Second)
	require.NotContains(t, text(t, d), "Allow “Other”", "it is asked once")

	// With its data gone the app asks anew; what was answered beforehand stays.
	require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
	touch(t, d, screen.Locator{ID: "ask"})
	touch(t, d, labelled("Allow"))
	passing(t, d, time.Second)
	require.Equal(t, "unknown", found(t, d, screen.Locator{ID: "at"}).Text, "it may know, and the device does not")
	require.NoError(t, d.SetPermission(ctx, "example.other", "location", device.Deny))
	require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
	touch(t, d, screen.Locator{ID: "ask"})
	passing(t, d, time.Second)
	require.Equal(t, "refused", found(t, d, screen.Locator{ID: "at"}).Text)
}

func TestWhatAPackageDoesNotDeclareIsRefusedWithoutAsking(t *testing.T) {
	ctx, d := app(t, locating)
	touch(t, d, screen.Locator{ID: "ask"})
	passing(t, d, time.Second)
	require.Equal(t, "refused", found(t, d, screen.Locator{ID: "at"}).Text)
	lines, err := d.Log(ctx)
	require.NoError(t, err)
	said := ""
	for _, l := range lines {
		said += l.Text + "\n"
	}
	require.Contains(t, said, "does not declare "+mayLocate)
}

func TestAnAppThatNeverStopsAskingHasCrashed(t *testing.T) {
	ctx, d := app(t, `(function again() { os.place(again); os.place(again) })(); os.show(() => ui.text({text: 'x'}))`)
	var crash *device.Crash
	for until := d.Now() + time.Minute; crash == nil; {
		require.Less(t, d.Now(), until)
		tree, err := d.Tree(ctx)
		if err == nil {
			err = d.AwaitChange(ctx, tree.Revision, until)
		}
		if err != nil {
			require.ErrorAs(t, err, &crash)
		}
	}
	require.Contains(t, crash.Reason, "asks the system")
}

func TestTheCameraOfADeviceThatHasNoneIsNone(t *testing.T) {
	_, d := app(t, `let got = '-'; os.ask('camera', (a) => { got = a }); os.show(() => ui.text({id: 'got', text: got}))`,
		"android.permission.CAMERA")
	passing(t, d, time.Second)
	require.Equal(t, "none", found(t, d, screen.Locator{ID: "got"}).Text)
}

func TestANotificationComesAndCanBeOpened(t *testing.T) {
	ctx, d := app(t, `let got = []; os.onMessage((m, opened) => { got.push(m + (opened ? ' opened' : '')) })
os.show(() => ui.text({id: 'got', text: got.join('|')}))`, "android.permission.POST_NOTIFICATIONS")
	pushed, ok := device.As[device.Pushed](d.Whole())
	require.True(t, ok)
	require.NoError(t, d.SendAway(ctx))
	require.NoError(t, pushed.Push(ctx, "example.other", "before anybody was asked"))
	require.NotContains(t, text(t, d), "before anybody")
	require.NoError(t, d.SetPermission(ctx, "example.other", "notifications", device.Allow))
	require.NoError(t, pushed.Push(ctx, "example.other", "The 9.40 is late"))
	require.Contains(t, text(t, d), "Other: The 9.40 is late")
	touch(t, d, screen.Locator{ID: "notification"})
	require.Equal(t, "before anybody was asked|The 9.40 is late|The 9.40 is late opened",
		found(t, d, screen.Locator{ID: "got"}).Text)
	require.NotContains(t, text(t, d), "Other: The 9.40", "it is gone once it was opened")

	require.NoError(t, d.Stop(ctx, "example.other"))
	require.NoError(t, pushed.Push(ctx, "example.other", "Quay 4"))
	require.Contains(t, text(t, d), "Other: Quay 4", "also where the app does not run")
	passing(t, d, 9*time.Second)
	require.NotContains(t, text(t, d), "Quay 4", "it goes by itself")
	require.Error(t, pushed.Push(ctx, "example.other", strings.Repeat("x", 3000)))
}

func TestTheKeyboardCoversTheLowerPartUntilItIsSentAway(t *testing.T) {
	ctx, d := app(t, `let v = '', n = 0
os.show(() => ui.column({ground: '#ffffff'}, ui.space({grow: 1}), ui.field({id: 'f', value: v, onInput: (x) => { v = x }}),
  ui.space({h: 40}), ui.button({id: 'low', text: 'Low ' + n, onTap: () => { n++ }})))`)
	before := found(t, d, screen.Locator{ID: "f"}).Bounds
	touch(t, d, screen.Locator{ID: "f"})
	board := found(t, d, screen.Locator{ID: "system-keyboard"})
	field := found(t, d, screen.Locator{ID: "f"})
	require.LessOrEqual(t, field.Bounds.Y+field.Bounds.H, board.Bounds.Y, "what is entered is to be seen")
	require.Less(t, field.Bounds.Y, before.Y)
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	require.Empty(t, tree.Shown(screen.Locator{ID: "low"}.Find(tree)), "the button is under it")

	// A person touches its keys.
	key := func(k rune) {
		t.Helper()
		for y := board.Bounds.Y + 8; y < board.Bounds.Y+board.Bounds.H; y += 8 {
			for x := 4.0; x < board.Bounds.W; x += 8 {
				if standin.KeyAt(board.Bounds, screen.Point{X: x, Y: y}) == k {
					require.NoError(t, d.Tap(ctx, screen.Point{X: x, Y: y}))
					return
				}
			}
		}
		t.Fatalf("the keyboard has no %q", k)
	}
	for _, k := range "tobi" {
		key(k)
	}
	require.Equal(t, "tobi", found(t, d, screen.Locator{ID: "f"}).Value)
	key('\uE003')
	require.Equal(t, "tob", found(t, d, screen.Locator{ID: "f"}).Value)
	require.NoError(t, d.Press(ctx, "back"))
	require.NotContains(t, text(t, d), "Keyboard")
	require.Equal(t, before, found(t, d, screen.Locator{ID: "f"}).Bounds)
	touch(t, d, screen.Locator{ID: "f"})
	require.NoError(t, d.EnterText(ctx, "i"))
	require.NotContains(t, text(t, d), "Keyboard", "keys from elsewhere put it away")
	touch(t, d, screen.Locator{ID: "low"})
	require.Equal(t, "Low 1", found(t, d, screen.Locator{ID: "low"}).Text)
}

func TestAListFollowsTheFinger(t *testing.T) {
	ctx, d := app(t, `os.show(() => ui.column({ground: '#ffffff'}, ui.scroll({id: 'list', grow: 1},
  Array.from({length: 60}, (_, i) => ui.text({id: 'n' + i, text: 'row ' + i, h: 40})))))`)
	list := found(t, d, screen.Locator{ID: "list"}).Bounds
	require.False(t, found(t, d, screen.Locator{ID: "n59"}).OnScreen())
	low, high := screen.Point{X: 200, Y: list.Y + 600}, screen.Point{X: 200, Y: list.Y + 100}
	require.NoError(t, d.Perform(ctx, device.Drag(low, high, 300*time.Millisecond)))
	require.InDelta(t, list.Y-500, found(t, d, screen.Locator{ID: "n0"}).Bounds.Y, 1)
	for range 6 {
		require.NoError(t, d.Perform(ctx, device.Drag(low, high, 300*time.Millisecond)))
	}
	last := found(t, d, screen.Locator{ID: "n59"})
	require.True(t, last.OnScreen())
	require.InDelta(t, list.Y+list.H, last.Bounds.Y+last.Bounds.H, 0.5, "and ends at its end")
	require.NoError(t, d.Perform(ctx, device.Drag(high, screen.Point{X: 200, Y: list.Y + 5000}, 300*time.Millisecond)))
	require.Equal(t, list.Y, found(t, d, screen.Locator{ID: "n0"}).Bounds.Y)
}

func TestWhatIsDraggedIsDropped(t *testing.T) {
	ctx, d := app(t, `let got = '-'
os.show(() => ui.column({ground: '#ffffff'}, ui.text({id: 'got', text: got}), ui.space({id: 'case', w: 80, h: 80, ground: '#aa0000', drag: 'suitcase'}),
  ui.space({h: 200}), ui.space({id: 'hold', w: 80, h: 80, ground: '#00aa00', onDrop: (what) => { got = what }})))`)
	from, to := found(t, d, screen.Locator{ID: "case"}).Visible.Centre(),
		found(t, d, screen.Locator{ID: "hold"}).Visible.Centre()
	require.NoError(t, d.Perform(ctx, device.Drag(from, screen.Point{X: 300, Y: 300}, 300*time.Millisecond)))
	require.Equal(t, "-", found(t, d, screen.Locator{ID: "got"}).Text)
	require.NoError(t, d.Perform(ctx, device.Drag(from, to, 300*time.Millisecond)))
	require.Equal(t, "suitcase", found(t, d, screen.Locator{ID: "got"}).Text)
}

func TestALockedDeviceIsUnlockedByASwipe(t *testing.T) {
	ctx, d := context.Background(), one(t, fleet.Simulator, "ios", standin.State{})
	require.NoError(t, d.Boot(ctx, time.Minute, false))
	require.Contains(t, text(t, d), "Swipe up to unlock")
	require.NoError(t, d.Perform(ctx, device.Drag(screen.Point{X: 200, Y: 200}, screen.Point{X: 200, Y: 700},
		time.Second)))
	require.Contains(t, text(t, d), "Swipe up to unlock")
	require.NoError(t, d.Perform(ctx, device.Drag(screen.Point{X: 200, Y: 700}, screen.Point{X: 200, Y: 200},
		time.Second)))
	require.NotContains(t, text(t, d), "Swipe up to unlock")
	touch(t, d, labelled("Not now"))
	require.NotContains(t, text(t, d), "Keep your device up to date", "and its dialog can be answered")
}

func TestAnAppLearnsThatItWasAwayAndForHowLong(t *testing.T) {
	ctx, d := app(t, `let said = []; os.onAway(() => said.push('away')); os.onHere((ms) => said.push(ms))
os.show(() => ui.text({id: 'said', text: said.join(' ')}))`)
	require.NoError(t, d.SendAway(ctx))
	passing(t, d, 5*time.Second)
	require.NoError(t, d.Start(ctx, "example.other", device.Resume))
	require.Equal(t, "away 5000", found(t, d, screen.Locator{ID: "said"}).Text)
	require.NoError(t, d.Start(ctx, "example.other", device.Resume))
	require.Equal(t, "away 5000", found(t, d, screen.Locator{ID: "said"}).Text, "it is here already")
}

func TestARequestFeelsTheNetwork(t *testing.T) {
	ctx, d := app(t, `let got = []; const ask = (failed) => os.request({ms: 100, bytes: 50000, address: 'https://sorane.example/list', method: 'post'}, () => got.push('ok'), failed)
os.show(() => ui.column({ground: '#ffffff'}, ui.text({id: 'got', text: got.join(' ')}), ui.button({id: 'ask', text: 'Ask', onTap: () => ask((why) => got.push(why))}),
  ui.button({id: 'hope', text: 'Hope', onTap: () => ask()})))`)
	began := d.Now()
	until := func(got string) time.Duration {
		t.Helper()
		for end := d.Now() + time.Minute; found(t, d, screen.Locator{ID: "got"}).Text != got; {
			require.Less(t, d.Now(), end)
			tree, err := d.Tree(ctx)
			require.NoError(t, err)
			require.NoError(t, d.AwaitChange(ctx, tree.Revision, end))
		}
		return d.Now() - began
	}
	touch(t, d, screen.Locator{ID: "ask"})
	require.Less(t, until("ok"), 300*time.Millisecond)
	require.NoError(t, d.SetNetwork(ctx, device.Slow))
	began = d.Now()
	touch(t, d, screen.Locator{ID: "ask"})
	require.InDelta(t, 1500, float64(until("ok ok").Milliseconds()), 100,
		"0.1 s of its own, 0.4 s of delay, 1 s for 50 kB")
	require.NoError(t, d.SetNetwork(ctx, device.Network{None: true}))
	touch(t, d, screen.Locator{ID: "ask"})
	until("ok ok there is no network")
	touch(t, d, screen.Locator{ID: "hope"})
	passing(t, d, time.Second)
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	require.False(t, tree.Busy, "nothing is under way any more")
	calls, err := d.Calls(ctx)
	require.NoError(t, err)
	require.Len(t, calls, 4)
	require.Equal(t, []any{"POST", "https://sorane.example/list", 200, int64(50000)},
		[]any{calls[1].Method, calls[1].Address, calls[1].Status, calls[1].Bytes})
	require.Equal(t, []any{0, "there is no network"}, []any{calls[3].Status, calls[3].Trouble})
	lines, err := d.Log(ctx)
	require.NoError(t, err)
	require.Contains(t, lines[len(lines)-1].Text, "the app does nothing about it")
}

func TestOnlyFilesAreAsFilesOnADevice(t *testing.T) {
	ctx, d := app(t, `let got = '-'; os.show(() => ui.column({ground: '#ffffff'}, ui.text({id: 'got', text: got}),
  ui.button({id: 'ask', text: 'Ask', onTap: () => os.choose((f) => { got = f ? f.name + ' ' + f.size + ' ' + f.text.length : 'none' })})))`)
	require.Error(t, d.PutFiles(ctx, t.TempDir()), "a directory is none")
	big := filepath.Join(t.TempDir(), "big.bin")
	require.NoError(t, os.WriteFile(big, bytes.Repeat([]byte("\x00\xff\xfe"), 100_000), 0o600))
	require.NoError(t, d.PutFiles(ctx, big))
	touch(t, d, screen.Locator{ID: "ask"})
	passing(t, d, time.Second)
	require.Regexp(t, "^big.bin 300000 [0-9]+$", found(t, d, screen.Locator{ID: "got"}).Text)
	touch(t, d, screen.Locator{ID: "ask"})
	touch(t, d, labelled("Cancel"))
	passing(t, d, time.Second)
	require.Equal(t, "none", found(t, d, screen.Locator{ID: "got"}).Text)
}

func TestALinkComesToTheAppWhetherOrNotItRuns(t *testing.T) {
	ctx, d := app(t, `let at = '/'; os.onLink((path) => { at = path }); os.show(() => ui.text({id: 'at', text: at}))`)
	require.NoError(t, d.OpenLink(ctx, "example.other", "other://tickets/4"))
	require.Equal(t, "/tickets/4", found(t, d, screen.Locator{ID: "at"}).Text)
	require.NoError(t, d.Stop(ctx, "example.other"))
	require.NoError(t, d.OpenLink(ctx, "example.other", "/map?at=Tobi"))
	require.Equal(t, "/map?at=Tobi", found(t, d, screen.Locator{ID: "at"}).Text)
	for _, link := range []string{"", "mailto:a@b.example", "another://tickets", "https://other.example/"} {
		require.Error(t, d.OpenLink(ctx, "example.other", link), link)
	}
}

func TestFramesAreTheNewestAndNoneWhereNothingChanges(t *testing.T) {
	ctx, d := app(t, `let n = 0; os.show(() => ui.column({ground: '#ffffff'}, ui.button({id: 'more', text: 'n ' + n, onTap: () => { n++ }})))`)
	frames := 0
	enough := errors.New("enough")
	err := d.Frames(ctx, 100, 100, func(f device.Frame) error {
		img, _, err := image.Decode(bytes.NewReader(f.Data))
		require.NoError(t, err)
		require.LessOrEqual(t, img.Bounds().Dx(), 100)
		switch frames++; frames {
		case 1:
			for range 20 {
				touch(t, d, screen.Locator{ID: "more"})
			}
			require.ErrorContains(t, d.Frames(ctx, 10, 10, nil), "somebody")
			return nil
		case 2: // of twenty changes, the last
			return enough
		}
		return errors.New("a frame of nothing")
	})
	require.ErrorIs(t, err, enough)
	require.Equal(t, "n 20", found(t, d, screen.Locator{ID: "more"}).Text)
	frames = 0
	soon, stop := context.WithTimeout(ctx, 200*time.Millisecond)
	defer stop()
	require.NoError(t, d.Frames(soon, 100, 100, func(device.Frame) error { frames++; return nil }))
	require.Equal(t, 1, frames)
}

func TestNobodyTiltsARealPhoneFromAfar(t *testing.T) {
	has := func(kind, platform string) []string {
		return device.Names(one(t, kind, platform, standin.State{}).Whole())
	}
	require.Subset(t, has(fleet.Emulator, "android"), []string{"motion", "battery", "push"})
	require.NotContains(t, has(fleet.Simulator, "ios"), "motion")
	require.Contains(t, has(fleet.Simulator, "ios"), "push")
	for _, name := range []string{"motion", "battery", "push"} {
		require.NotContains(t, has(fleet.Real, "android"), name)
	}
}

var _ driver.Device = (*standin.Device)(nil)

// lame is a device that sends nothing away.
type lame struct{ device.Device }

func (lame) Abilities() []string { return []string{"tree"} }

func TestAScriptSendsTheAppAway(t *testing.T) {
	_, d := app(t, `let said = 'here'; os.onHere((ms) => { said = 'away for ' + Math.round(ms / 1000) })
os.show(() => ui.text({id: 'said', text: said}))`)
	text, findings := script.Format("suite \"s\"\ncase \"c\"\nsend   app  away for 5000ms\nexpect #said shows \"away for 5\"\nend\n")
	require.Empty(t, findings)
	require.Contains(t, text, "  send app away for 5s\n")
	s, findings := script.Read(text)
	require.Empty(t, findings)
	r := script.RunCase(context.Background(), s, s.Cases[0], d, script.Options{App: "example.other"}, &pictures{t: t})
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	r = script.RunCase(context.Background(), s, s.Cases[0], lame{d}, script.Options{App: "example.other"},
		&pictures{t: t})
	require.Equal(t, verdict.Skip, r.Verdict)
	require.Contains(t, r.Failure.Expected, "`away`")
	for _, wrong := range []string{"send app away", "send app away for 5", "send app for 5s", "send away for 5s"} {
		_, findings := script.Read("suite \"s\"\ncase \"c\"\n  " + wrong + "\n  expect \"x\"\nend\n")
		require.NotEmpty(t, findings, wrong)
	}
}

func TestAnExpressionOfSomebodysHarmsNoApp(t *testing.T) {
	ctx, d := app(t, `let n = 0; JSON.stringify = null; os.show(() => ui.text({id: 'n', text: String(n)}))`)
	for expression, value := range map[string]string{"n = 4; n": "4", "const a = {}; a.a = a; a": "[object Object]",
		"os.device.model":        "Kaede 7",
		"'x'.repeat(1e6).length": "1000000"} {
		got, err := d.Evaluate(ctx, expression)
		require.NoError(t, err, expression)
		require.Equal(t, value, got, expression)
	}
	require.Equal(t, "4", found(t, d, screen.Locator{ID: "n"}).Text, "what it changes is seen")
	got, err := d.Evaluate(ctx, "'y'.repeat(1e6)")
	require.NoError(t, err)
	require.LessOrEqual(t, len(got), 64<<10+3)
	_, err = d.Evaluate(ctx, strings.Repeat(" ", 70_000))
	require.ErrorContains(t, err, "at most")
	_, err = d.Evaluate(ctx, "for (;;) {}")
	var crash *device.Crash
	require.ErrorAs(t, err, &crash, "what never ends ends the app")
	_, err = d.Evaluate(ctx, "1")
	require.Error(t, err)
}
