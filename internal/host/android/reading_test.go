package android

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

const small = `<?xml version='1.0' encoding='UTF-8' standalone='yes' ?><hierarchy rotation="0"><node index="0" text="" resource-id="" class="android.widget.FrameLayout" package="example.tideline" content-desc="" checkable="false" checked="false" clickable="false" enabled="true" focused="false" selected="false" bounds="[0,0][816,1792]"><node index="0" text="Buy &amp; go" resource-id="example.tideline:id/buy" class="android.widget.Button" package="example.tideline" content-desc="" checkable="false" checked="false" clickable="true" enabled="false" focused="false" selected="false" bounds="[20,40][220,120]" /><node text="Kujira" resource-id="example.tideline:id/name" class="androidx.appcompat.widget.EditText" content-desc="Your name" clickable="true" enabled="true" focused="true" bounds="[20,200][420,260]" /><node text="" class="android.widget.CheckBox" checkable="true" checked="true" enabled="true" bounds="[20,300][60,340]" /></node></hierarchy>UI hierchary dumped to: /dev/tty`

func TestADumpOfTheScreenIsReadWithWhatTheToolSaysAroundIt(t *testing.T) {
	tree, quarters, err := readDump([]byte("WARNING: linker: something\n"+small+"\n"), 2)
	require.NoError(t, err)
	require.Equal(t, "example.tideline", tree.App)
	require.Zero(t, quarters)
	frame := tree.Root.Children[0]
	require.Equal(t, screen.Rect{W: 408, H: 896}, frame.Bounds)
	buy, name, check := frame.Children[0], frame.Children[1], frame.Children[2]
	require.Equal(t, []any{"button", "buy", "Buy & go", true, true}, []any{buy.Role, buy.ID, buy.Text, buy.Touch, buy.Disabled})
	require.Equal(t, screen.Rect{X: 10, Y: 20, W: 100, H: 40}, buy.Bounds)
	require.Equal(t, []any{"textbox", "Your name", "Kujira", true}, []any{name.Role, name.Name, name.Value, name.Focused})
	require.Equal(t, []any{"checkbox", "true"}, []any{check.Role, check.Checked})
}

func TestWhatAListHoldsAreItsItems(t *testing.T) {
	const list = `<?xml version='1.0'?><hierarchy rotation="1"><node class="androidx.recyclerview.widget.RecyclerView" package="a.b"><node class="android.view.ViewGroup"><node class="android.widget.TextView" text="9.40"/></node><node class="android.widget.Button" text="More"/></node></hierarchy>`
	tree, quarters, err := readDump([]byte(list), 1)
	require.NoError(t, err)
	require.Equal(t, 1, quarters)
	held := tree.Root.Children[0].Children
	require.Equal(t, []string{"listitem", "button", ""}, []string{held[0].Role, held[1].Role, held[0].Children[0].Role})
}

func TestWhatIsNoDumpIsSaid(t *testing.T) {
	for _, text := range []string{"", "ERROR: could not get idle state.", "<?xml?><hierarchy>", "<?xml version='1.0'?><hierarchy><node></hierarchy>",
		strings.Replace(small, "[0,0][816,1792]", "[0,0][816,99999999999]", 1), strings.Replace(small, "[0,0][816,1792]", "[1,2,3,4,5]", 1)} {
		_, _, err := readDump([]byte(text), 2)
		require.ErrorIs(t, err, errDump, text)
	}
	deep := "<?xml version='1.0'?><hierarchy>" + strings.Repeat("<node>", 100_000) + "</hierarchy>"
	_, _, err := readDump([]byte(deep), 2)
	require.ErrorContains(t, err, "deep")
}

func TestAPhoneTellsWhatItIs(t *testing.T) {
	const said = "[ro.product.model]: [Kaede 7]\n[ro.build.version.release]: [15]\n[ro.product.cpu.abi]: [arm64-v8a]\n[ro.serialno]: [R3C]\r\n" +
		"Physical size: 1080x2400\nOverride size: 816x1792\nPhysical density: 320\nMemTotal:        8167876 kB\n"
	f, scale, err := readFacts(said)
	require.NoError(t, err)
	require.InDelta(t, 2.0, scale, 0)
	require.Equal(t, fleet.Device{Kind: fleet.Real, Platform: "android", Model: "Kaede 7", OS: "15", ABI: "arm64-v8a", HardwareID: "R3C",
		Width: 408, Height: 896, MemoryMB: 7976, Form: "phone", Traits: []string{}}, f)
	f, _, err = readFacts(said + "[ro.boot.qemu]: [1]\nPhysical size: 1600x2560\n")
	require.NoError(t, err)
	require.Equal(t, fleet.Emulator, f.Kind)
	for _, bad := range []string{"", "Physical size: 0x0\nPhysical density: 320", "Physical size: 1080x2400\nPhysical density: 320"} {
		_, _, err := readFacts(bad)
		require.Error(t, err, bad)
	}
}

// Each of the OS's refusals is a sentence with what to do, and told apart: the phone's trouble, or the build's.
func TestWhatTheOSRefusesIsToldApart(t *testing.T) {
	for said, want := range map[string]struct {
		phones bool
		says   string
	}{
		"Failure [INSTALL_FAILED_INSUFFICIENT_STORAGE]":                         {true, "no room"},
		"Failure [INSTALL_FAILED_USER_RESTRICTED: Install canceled by user]":    {true, "lets nobody install"},
		"Failure [INSTALL_FAILED_VERSION_DOWNGRADE: Downgrade detected]":        {false, "newer version"},
		"Failure [INSTALL_FAILED_UPDATE_INCOMPATIBLE: Package x signatures do]": {false, "signed differently"},
		"Failure [INSTALL_FAILED_NO_MATCHING_ABIS: Failed to extract]":          {false, "other processors"},
		"Failure [INSTALL_FAILED_OLDER_SDK: Requires newer sdk version #35]":    {false, "newer version of the OS"},
		"Failure [INSTALL_PARSE_FAILED_NOT_APK: Failed to parse /data/x]":       {false, "no Android package"},
		"Failure [INSTALL_FAILED_VERIFICATION_FAILURE: x]":                      {true, "did not let it pass"},
		"Failure [INSTALL_FAILED_SOMETHING_NEW: who knows]":                     {false, "INSTALL_FAILED_SOMETHING_NEW: who knows"},
		"Killed": {false, "Killed"},
	} {
		err := refused(said)
		var own *device.Trouble
		require.Equal(t, want.phones, errors.As(err, &own), said)
		require.ErrorContains(t, err, want.says)
	}
}

func TestCrashesAreOfTheAppThatDied(t *testing.T) {
	const log = "--------- beginning of crash\n" +
		"         1764488000.123  4242  4242 E AndroidRuntime: FATAL EXCEPTION: main\n" +
		"         1764488000.123  4242  4242 E AndroidRuntime: Process: example.other, PID: 4242\n" +
		"         1764488000.123  4242  4242 E AndroidRuntime: java.lang.Error: not mine\n" +
		"         1764488001.000  4300  4300 E AndroidRuntime: FATAL EXCEPTION: main\n" +
		"         1764488001.000  4300  4300 E AndroidRuntime: Process: example.tideline, PID: 4300\n" +
		"         1764488001.000  4300  4300 E AndroidRuntime: java.lang.IllegalStateException: no fare\n" +
		"         1764488001.000  4300  4300 E AndroidRuntime: \tat example.Main.run(Main.java:7)\n"
	require.Equal(t, []crashed{{1764488001, "java.lang.IllegalStateException: no fare\n\tat example.Main.run(Main.java:7)"}},
		crashesIn(log, "example.tideline"))
	require.Len(t, crashesIn(log, ""), 2)

	const native = "         1764488002.500  4400  4400 F DEBUG   : *** *** *** *** *** *** *** ***\n" +
		"         1764488002.500  4400  4400 F DEBUG   : Build fingerprint: 'x/y'\n" +
		"         1764488002.500  4400  4400 F DEBUG   : pid: 4300, tid: 4310, name: worker  >>> example.tideline:map <<<\n" +
		"         1764488002.500  4400  4400 F DEBUG   : signal 11 (SIGSEGV), code 1 (SEGV_MAPERR), fault addr 0x0\n" +
		"         1764488002.500  4400  4400 F DEBUG   :       #00 pc 0000000000012345  /data/app/lib/libtide.so (draw+12)\n" +
		"         1764488003.000  1432  1500 E ActivityManager: ANR in example.tideline (example.tideline/.Main)\n" +
		"         1764488003.000  1432  1500 E ActivityManager: Reason: Input dispatching timed out\n"
	require.Equal(t, []crashed{
		{1764488002.5, "signal 11 (SIGSEGV), code 1 (SEGV_MAPERR), fault addr 0x0\n      #00 pc 0000000000012345  /data/app/lib/libtide.so (draw+12)"},
		{1764488003, "it stopped answering\nReason: Input dispatching timed out"}}, crashesIn(native, "example.tideline"))
	require.Empty(t, crashesIn(native, "example.other"))
}

func TestOnlyWhatIsAnApplicationIDIsPutInALine(t *testing.T) {
	for _, bad := range []string{"", "tideline", "a.b; rm -rf /", "example.x$(reboot)", "-n", "example..x", "example.x\n", strings.Repeat("a.", 300) + "b"} {
		require.False(t, isPackage(bad), bad)
	}
	require.True(t, isPackage("example.tideline_2"))
	require.Equal(t, `'it'\''s'`, quote("it's"))
}

func bench() *Device {
	return &Device{opened: time.Unix(1764488000, 0), users: map[string]string{"10101": "example.tideline"}}
}

func TestALineOfTheLogIsGivenOnce(t *testing.T) {
	d := bench()
	const first = "--------- beginning of main\n" +
		"         1764488000.100  1000  1432  1433 I ActivityManager: start\n" +
		"         1764488001.500 10101  4242  4250 W Tideline: no fare: for three\n" +
		"         1764488001.500 10101  4242  4250 W Tideline: no fare: for three\n" +
		"         1764488001.500 u0_a101  4242  4250 D Tideline: again\n"
	lines := d.newLines([]byte(first), false)
	require.Len(t, lines, 4)
	require.Equal(t, device.LogLine{AtMS: 1500, Level: "warn", Tag: "Tideline", Text: "no fare: for three", App: "10101"}, lines[1])
	require.Equal(t, []string{"", "10101", "10101", "10101"}, []string{lines[0].App, lines[1].App, lines[2].App, lines[3].App})
	require.Empty(t, d.newLines([]byte(first), false), "from the newest on, the log says it again")
	more := first + "         1764488001.500 10101  4242  4250 I Tideline: at the same time\n         1764488002.000 10101  4242  4250 E Tideline: later\nhalf a li"
	lines = d.newLines([]byte(more), false)
	require.Len(t, lines, 2)
	require.Equal(t, "at the same time", lines[0].Text)
	lines = d.newLines([]byte("4488003.000 10101  4242  4250 E Tideline: cut\n         1764488003.000 10101  4242  4250 E Tideline: whole\n"), true)
	require.Len(t, lines, 2)
	require.Contains(t, lines[0].Text, "left out")
	require.Equal(t, "whole", lines[1].Text)
	d.off = time.Hour // of a phone whose clock is ahead
	require.Equal(t, int64(5000), d.newLines([]byte("         1764491605.000 10101  4242  4250 E T: x\n"), false)[0].AtMS)
}

const panel = "add device 1: /dev/input/event0\n  events:\n    KEY (0001): KEY_POWER\n  input props:\n    <none>\n" +
	"add device 2: /dev/input/event3\n  name:     \"pen\"\n    ABS (0003): ABS_MT_SLOT           : value 0, min 0, max 1, fuzz 0\n" +
	"add device 3: /dev/input/event2\n  name:     \"touch\"\n    ABS (0003): ABS_MT_SLOT           : value 0, min 0, max 9, fuzz 0, flat 0, resolution 0\n" +
	"                ABS_MT_POSITION_X     : value 0, min 0, max 1079, fuzz 0, flat 0, resolution 0\n" +
	"                ABS_MT_POSITION_Y     : value 0, min 0, max 2399, fuzz 0, flat 0, resolution 0\n  input props:\n    INPUT_PROP_DIRECT\n"

func TestFingersAreEventsOfTheTouchscreen(t *testing.T) {
	touch := touchscreenIn(panel, true)
	require.Equal(t, &touchscreen{path: "/dev/input/event2", maxX: 1079, maxY: 2399, fingers: 10, wide: true}, touch)
	require.Nil(t, touchscreenIn(strings.ReplaceAll(panel, "INPUT_PROP_DIRECT", "<none>"), true))
	at := func(quarters int, x, y, w, h float64) [2]int {
		a, b := touch.place(screen.Point{X: x, Y: y}, w, h, quarters)
		return [2]int{a, b}
	}
	// The upper left corner of the screen, as it is held, on a phone that is turned.
	require.Equal(t, [4][2]int{{0, 0}, {1079, 0}, {1079, 2399}, {0, 2399}},
		[4][2]int{at(0, 0, 0, 400, 800), at(1, 0, 0, 800, 400), at(2, 0, 0, 400, 800), at(3, 0, 0, 800, 400)})
	beats, took := touch.beats(device.Pinch(screen.Point{X: 200, Y: 400}, 100, 50, 160*time.Millisecond), 400, 800, 0)
	require.InDelta(t, 160, float64(took.Milliseconds()), 1)
	var slots, ups int
	for _, b := range beats {
		require.Zero(t, len(b.data)%24)
		for e := b.data; len(e) > 0; e = e[24:] {
			if e[18] == absSlot {
				slots = max(slots, int(e[20])+1)
			}
			if e[18] == absTracking && e[20] == 0xff {
				ups++
			}
		}
		require.Zero(t, b.data[len(b.data)-8], "each beat ends with a report")
	}
	require.Equal(t, []int{2, 2}, []int{slots, ups}, "two fingers, and both go up")
	narrow := touchscreenIn(panel, false)
	beats, _ = narrow.beats([]device.Finger{device.Tapped(screen.Point{X: 1, Y: 1})}, 400, 800, 0)
	require.Zero(t, len(beats[0].data)%16, "of a program of 32 bits")
}

func TestHowAPhoneIsSeenSaysWhatMendsIt(t *testing.T) {
	for state, want := range map[string]string{"unauthorized": "say yes on its screen", "offline": "cable out and in again",
		"recovery": "Reboot system now", "bootloader": "until it restarts", "no permissions (user in plugdev group; see [x])": "install Debian's package",
		"": "plug it in"} {
		checks := fleet.Readiness(fleet.Device{Platform: "android"}, stateHealth(state))
		last := checks[len(checks)-1]
		require.False(t, last.OK, state)
		require.Contains(t, last.Remedy, want, state)
	}
	shown, ok := locked("  KeyguardServiceDelegate\n      showing=true\n      secure=true\n")
	require.True(t, shown && ok)
	shown, ok = locked("      showing=true\n      secure=false\n")
	require.True(t, !shown && ok, "a swipe takes it away")
	_, ok = locked("Can't find service: window")
	require.False(t, ok)
	asked := time.Unix(1764488000, 0)
	off, ok := clockIn("1764488301.500000000\n", asked, asked.Add(time.Second))
	require.True(t, ok)
	require.Equal(t, 301*time.Second, off)
}

func TestOnlyWhatAPhoneMayHaveSaidIsPutBack(t *testing.T) {
	for name, values := range map[string][]string{"turning": {"0", "1", "null"}, "text": {"1.0", "0.85", "null"}, "night": {"yes", "no", "auto"},
		"zone": {"Europe/Lisbon", "Etc/GMT+3"}, "flight": {"0", "1"}, "held": {"3"}} {
		for _, v := range values {
			require.True(t, settings[name].takes(v), "%s %s", name, v)
		}
		for _, bad := range []string{"", "x; reboot", "$(reboot)", "1\n2", "999999999999", "'"} {
			require.False(t, settings[name].takes(bad), "%s %q", name, bad)
		}
	}
	require.True(t, overNetwork("192.0.2.7:5555"))
	require.False(t, overNetwork("127.0.0.1:5555") || overNetwork("R3CN") || overNetwork("emulator-5554"))
}

func FuzzDumps(f *testing.F) {
	f.Add([]byte(small))
	f.Fuzz(func(t *testing.T, b []byte) { _, _, _ = readDump(b, 2.5) })
}

func FuzzFacts(f *testing.F) {
	f.Add("[ro.product.model]: [x]\nPhysical size: 1x1\nPhysical density: 1\n")
	f.Add(panel)
	f.Add("         1764488001.500 u0_a101  4242  4250 D Tideline: again\n")
	f.Fuzz(func(t *testing.T, s string) {
		_, _, _ = readFacts(s)
		_ = crashesIn(s, "a")
		_ = refused(s)
		_ = bench().newLines([]byte(s), true)
		_ = touchscreenIn(s, true)
		_, _ = clockIn(s, time.Unix(0, 0), time.Unix(1, 0))
		_ = sections(s)
	})
}

func TestASiteFileSaysWhichPhonesItHas(t *testing.T) {
	read := func(text string) (*driver.Site, error) {
		s, _, err := driver.Read([]byte("site: cable\ndriver: android\n" + text))
		return s, err
	}
	s, err := read("android: {only: [R3C], connect: ['192.0.2.7:5555']}\n")
	require.NoError(t, err)
	w, err := wishesOf(s)
	require.NoError(t, err)
	require.Equal(t, wishes{Only: []string{"R3C"}, Connect: []string{"192.0.2.7:5555"}}, w)
	for text, says := range map[string]string{"android: {olny: [x]}": "only", "android: {connect: ['192.0.2.7']}": "HOST:PORT",
		"android: {connect: ['x:99999']}": "HOST:PORT", "andriod: {}": "android",
		"devices: [{name: a, model: b, kind: real, os: '15'}]": "not describe"} {
		_, err := read(text)
		require.ErrorContains(t, err, says, text)
	}
}
