package android

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
)

const small = `<?xml version='1.0' encoding='UTF-8' standalone='yes' ?><hierarchy rotation="0"><node index="0" text="" resource-id="" class="android.widget.FrameLayout" package="example.tideline" content-desc="" checkable="false" checked="false" clickable="false" enabled="true" focused="false" selected="false" bounds="[0,0][816,1792]"><node index="0" text="Buy &amp; go" resource-id="example.tideline:id/buy" class="android.widget.Button" package="example.tideline" content-desc="" checkable="false" checked="false" clickable="true" enabled="false" focused="false" selected="false" bounds="[20,40][220,120]" /><node text="Kujira" resource-id="example.tideline:id/name" class="androidx.appcompat.widget.EditText" content-desc="Your name" clickable="true" enabled="true" focused="true" bounds="[20,200][420,260]" /><node text="" class="android.widget.CheckBox" checkable="true" checked="true" enabled="true" bounds="[20,300][60,340]" /></node></hierarchy>UI hierchary dumped to: /dev/tty`

func TestADumpOfTheScreenIsReadWithWhatTheToolSaysAroundIt(t *testing.T) {
	tree, err := readDump([]byte("WARNING: linker: something\n"+small+"\n"), 2)
	require.NoError(t, err)
	require.Equal(t, "example.tideline", tree.App)
	frame := tree.Root.Children[0]
	require.Equal(t, screen.Rect{W: 408, H: 896}, frame.Bounds)
	buy, name, check := frame.Children[0], frame.Children[1], frame.Children[2]
	require.Equal(t, []any{"button", "buy", "Buy & go", true, true}, []any{buy.Role, buy.ID, buy.Text, buy.Touch, buy.Disabled})
	require.Equal(t, screen.Rect{X: 10, Y: 20, W: 100, H: 40}, buy.Bounds)
	require.Equal(t, []any{"textbox", "Your name", "Kujira", true}, []any{name.Role, name.Name, name.Value, name.Focused})
	require.Equal(t, []any{"checkbox", "true"}, []any{check.Role, check.Checked})
}

func TestWhatIsNoDumpIsSaid(t *testing.T) {
	for _, text := range []string{"", "ERROR: could not get idle state.", "<?xml?><hierarchy>", "<?xml version='1.0'?><hierarchy><node></hierarchy>",
		strings.Replace(small, "[0,0][816,1792]", "[0,0][816,99999999999]", 1), strings.Replace(small, "[0,0][816,1792]", "[1,2,3,4,5]", 1)} {
		_, err := readDump([]byte(text), 2)
		require.ErrorIs(t, err, errDump, text)
	}
	deep := "<?xml version='1.0'?><hierarchy>" + strings.Repeat("<node>", 100_000) + "</hierarchy>"
	_, err := readDump([]byte(deep), 2)
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
		"Failure [INSTALL_PARSE_FAILED_NOT_APK: Failed to parse /data/x]":       {false, "INSTALL_PARSE_FAILED_NOT_APK: Failed to parse"},
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
}

func TestOnlyWhatIsAnApplicationIDIsPutInALine(t *testing.T) {
	for _, bad := range []string{"", "tideline", "a.b; rm -rf /", "example.x$(reboot)", "-n", "example..x", "example.x\n", strings.Repeat("a.", 300) + "b"} {
		require.False(t, isPackage(bad), bad)
	}
	require.True(t, isPackage("example.tideline_2"))
	require.Equal(t, `'it'\''s'`, quote("it's"))
}

func FuzzDumps(f *testing.F) {
	f.Add([]byte(small))
	f.Fuzz(func(t *testing.T, b []byte) { _, _ = readDump(b, 2.5) })
}

func FuzzFacts(f *testing.F) {
	f.Add("[ro.product.model]: [x]\nPhysical size: 1x1\nPhysical density: 1\n")
	f.Fuzz(func(t *testing.T, s string) { _, _, _ = readFacts(s); _ = crashesIn(s, "a"); _ = refused(s) })
}
