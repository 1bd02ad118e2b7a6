package standin_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/testbin"
)

// one gives a stand-in of a kind in a state; it is never shared.
func one(t *testing.T, kind, platform string, state standin.State) *standin.Device {
	t.Helper()
	d := standin.New(standin.Config{Sandbox: []string{testbin.Program(t), sandbox.Argument}, State: state,
		Device: fleet.Device{Name: "kaede-7-1", Kind: kind, Platform: platform, Model: "Kaede 7", OS: "14",
			Form:  "phone",
			Width: 408, Height: 896, MemoryMB: 8192}})
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func with(name string, count int) standin.State {
	return standin.State{Troubles: []standin.StateTrouble{{Name: name, Count: count}}}
}

func text(t *testing.T, d driver.Device) string {
	t.Helper()
	tree, err := d.Tree(context.Background())
	require.NoError(t, err)
	out := ""
	tree.Walk(func(n *screen.Node, _ int) bool { out += n.Label() + "\n"; return true })
	return out
}

func TestAFirstBootEndsLockedAndInDialogsThatAreSentAway(t *testing.T) {
	ctx := context.Background()
	d := one(t, fleet.Emulator, "android", standin.State{})
	require.False(t, d.Up())
	_, err := d.Tree(ctx)
	require.ErrorContains(t, err, "switched off")
	require.NoError(t, d.Boot(ctx, time.Minute, false))
	require.Contains(t, text(t, d), "Swipe up to unlock")
	require.NotEmpty(t, d.BootLog())
	what, err := d.Clear(ctx)
	require.NoError(t, err)
	require.Equal(t, "Welcome", what)
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	require.NotContains(t, text(t, d), "Back up your device?")
	require.NotContains(t, text(t, d), "Swipe")

	require.NoError(t, d.Halt(ctx))
	require.NoError(t, d.Boot(ctx, time.Minute, false))
	what, err = d.Clear(ctx)
	require.NoError(t, err)
	require.Empty(t, what, "a second boot has no dialogs")
	require.NoError(t, d.Empty(ctx))
	require.NoError(t, d.Boot(ctx, time.Minute, false))
	what, _ = d.Clear(ctx)
	require.Equal(t, "Welcome", what, "emptied, its next boot is its first")
}

func TestEachTroubleIsTheDevicesOwnAndIsMended(t *testing.T) {
	ctx := context.Background()
	packages := demotest.Packages(t, demo.Versions[0])
	for name, c := range map[string]struct {
		kind, platform string
		state          standin.State
		mend           string
		says           string
	}{
		"dialog": {fleet.Emulator, "android", with("dialog", 1), "answer-dialog",
			"nobody could send away: A system update"},
		"space":     {fleet.Emulator, "android", with("space", 1), "free-space", "no room"},
		"cable":     {fleet.Real, "android", with("cable", 1), "plug-in", "cable has dropped"},
		"lock":      {fleet.Real, "android", with("lock", 1), "unlock", "locked with a code"},
		"untrusted": {fleet.Real, "ios", with("untrusted", 1), "trust-developer", "is not trusted on this phone yet"},
		"unplugged": {fleet.Real, "android", standin.State{Unplugged: true}, "plug-in", "cable has dropped"},
	} {
		t.Run(name, func(t *testing.T) {
			d := one(t, c.kind, c.platform, c.state)
			path, facts := written(t, packages, c.platform, c.kind)
			use := func() error {
				if err := d.Ready(ctx, driver.Terms{}); err != nil {
					return err
				}
				if err := d.Install(ctx, driver.App{Package: facts, Path: path}); err != nil {
					return err
				}
				if err := d.Start(ctx, demo.ApplicationID, device.Fresh); err != nil {
					return err
				}
				for range 4 {
					if err := d.Tap(ctx, screen.Point{X: 200, Y: 400}); err != nil {
						return err
					}
				}
				return nil
			}
			err := use()
			var own *device.Trouble
			require.ErrorAs(t, err, &own, "it says nothing of the app")
			require.Contains(t, own.Error(), c.says)
			require.NotEmpty(t, own.Remedy)
			if c.kind == fleet.Real {
				h, err := d.Health(ctx)
				require.NoError(t, err)
				_, bad := fleet.Unready(fleet.Readiness(d.Describe(), h))
				require.True(t, bad, "and readiness says it too")
				select {
				case <-d.Noticed():
				default:
					require.Equal(t, "unplugged", name, "what changes by itself is noticed")
				}
			}
			require.NoError(t, d.Deed(ctx, c.mend, 0))
			require.NoError(t, use(), "once mended, it goes on")
		})
	}
}

func TestAPopUpIsSentAwayAndAnAppThatStaysBehindIsNoticed(t *testing.T) {
	ctx := context.Background()
	packages := demotest.Packages(t, demo.Versions[0])
	d := one(t, fleet.Emulator, "android", with("popup", 1))
	path, facts := written(t, packages, "android", fleet.Emulator)
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	require.NoError(t, d.Install(ctx, driver.App{Package: facts, Path: path}))
	require.NoError(t, d.Start(ctx, demo.ApplicationID, device.Fresh))
	require.Contains(t, text(t, d), "Rate your connection")
	what, err := d.Clear(ctx)
	require.NoError(t, err)
	require.Equal(t, "Rate your connection", what)
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	require.Equal(t, demo.ApplicationID, tree.App)

	require.NoError(t, d.Deed(ctx, "trouble behind", 1))
	require.NoError(t, d.Start(ctx, demo.ApplicationID, device.Fresh))
	tree, err = d.Tree(ctx)
	require.NoError(t, err)
	require.NotEqual(t, demo.ApplicationID, tree.App)
	require.Error(t, d.Deed(ctx, "trouble rain", 1))
	require.Error(t, d.Deed(ctx, "dance", 1))
	require.NoError(t, d.Deed(ctx, "mend", 0))
	require.NoError(t, d.Start(ctx, demo.ApplicationID, device.Fresh))
	tree, _ = d.Tree(ctx)
	require.Equal(t, demo.ApplicationID, tree.App)
}

func TestAScreenThatTimesOutIsPutOnAgainUnlessACodeLocksIt(t *testing.T) {
	ctx := context.Background()
	packages := demotest.Packages(t, demo.Versions[0])
	d := one(t, fleet.Real, "android", standin.State{Timeout: 30})
	path, facts := written(t, packages, "android", fleet.Real)
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	require.NoError(t, d.Install(ctx, driver.App{Package: facts, Path: path}))
	require.NoError(t, d.Start(ctx, demo.ApplicationID, device.Fresh))
	front := func() bool {
		tree, err := d.Tree(ctx)
		require.NoError(t, err)
		return tree.App == demo.ApplicationID
	}
	idle := func(by time.Duration) {
		until := d.Now() + by
		for d.Now() < until {
			tree, err := d.Tree(ctx)
			require.NoError(t, err)
			require.NoError(t, d.AwaitChange(ctx, tree.Revision, until))
		}
	}
	idle(29 * time.Second)
	require.True(t, front())
	require.NoError(t, d.Tap(ctx, screen.Point{X: 200, Y: 400}))
	idle(29 * time.Second)
	require.True(t, front(), "a touch keeps it on")
	idle(2 * time.Second)
	require.False(t, front())
	slept, err := d.Wake(ctx)
	require.NoError(t, err)
	require.True(t, slept)
	require.True(t, front(), "the app is where it was")
	slept, err = d.Wake(ctx)
	require.NoError(t, err)
	require.False(t, slept)

	require.NoError(t, d.Deed(ctx, "trouble lock", 1))
	idle(31 * time.Second)
	_, err = d.Wake(ctx)
	var own *device.Trouble
	require.ErrorAs(t, err, &own)
	require.Contains(t, own.Why, "locked with a code")
	require.NoError(t, d.Deed(ctx, "unlock", 0))
	_, err = d.Wake(ctx)
	require.NoError(t, err)
	require.True(t, front())
}

func TestChanceOfTroubleIsAFunctionOfTheDevice(t *testing.T) {
	outcome := func() (out []bool) {
		d := one(t, fleet.Emulator, "android",
			standin.State{Troubles: []standin.StateTrouble{{Name: "hang", Chance: 0.5}}})
		for range 12 {
			out = append(out, d.Boot(context.Background(), time.Minute, false) == nil)
			require.NoError(t, d.Halt(context.Background()))
		}
		return out
	}
	first := outcome()
	require.Equal(t, first, outcome())
	require.Contains(t, first, true)
	require.Contains(t, first, false)
}

func TestAnAppSignedDifferentlyStays(t *testing.T) {
	ctx := context.Background()
	packages := demotest.Packages(t, demo.Versions[0])
	d := one(t, fleet.Real, "android", standin.State{Installed: []fleet.Installed{{ID: demo.ApplicationID,
		VersionCode: "9", Signer: "abc"}}})
	path, facts := written(t, packages, "android", fleet.Real)
	require.ErrorContains(t, d.Install(ctx, driver.App{Package: facts, Path: path}), "signed differently")
	require.NoError(t, d.Deed(ctx, "remove-app "+demo.ApplicationID, 0))
	require.NoError(t, d.Install(ctx, driver.App{Package: facts, Path: path}))
}

// written writes the package of the sample app that runs on a kind of device.
func written(t *testing.T, packages []demo.Package, platform, kind string) (string, appfile.Package) {
	t.Helper()
	want := appfile.Android
	if platform == "ios" && kind == fleet.Real {
		want = appfile.IOSDevice
	}
	for _, p := range packages {
		facts, err := appfile.Read(bytes.NewReader(p.Data), int64(len(p.Data)))
		require.NoError(t, err)
		if facts.Kind == want {
			path := filepath.Join(t.TempDir(), p.File)
			require.NoError(t, os.WriteFile(path, p.Data, 0o600))
			return path, *facts
		}
	}
	require.Fail(t, "no such package")
	return "", appfile.Package{}
}
