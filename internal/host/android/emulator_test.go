package android

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
	"yamato/internal/host/yard"
	"yamato/internal/testbin"
)

// imageTools have made emulators of these names; what goes wrong with each is the value.
func imageTools(t *testing.T, made map[string]string) {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("ANDROID_AVD_HOME", dir)
	for name, trouble := range made {
		folder := filepath.Join(dir, name+".avd")
		require.NoError(t, os.MkdirAll(folder, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, "config.ini"), []byte("avd.ini.displayname=Kaede 7 "+name+"\nabi.type=x86_64\n"+
			"hw.lcd.width=816\nhw.lcd.height=1792\nhw.lcd.density=320\nhw.ramSize=2048M\nhw.cpu.ncore=2\n"+
			"image.sysdir.1=system-images/android-35/default/x86_64/\nyamato.trouble="+trouble+"\n"), 0o644))
	}
}

// emulatorsOf runs the driver's search with the command that ships, and gives the emulators that it tells of.
func emulatorsOf(t *testing.T, s *Server, want ...string) map[string]driver.Device {
	t.Helper()
	t.Setenv("ANDROID_ADB_SERVER_PORT", s.Address[len("127.0.0.1:"):])
	site, _, err := driver.Read([]byte("site: cable\ndriver: android\nandroid: {emulator: ['" + testbin.Program(t) + "', standin, emulator]}\n"))
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	told, done := make(chan driver.Change, 64), make(chan error, 1)
	go func() { done <- (&Driver{Server: *s}).Find(ctx, site, func(c driver.Change) { told <- c }) }()
	t.Cleanup(func() { stop(); require.ErrorIs(t, <-done, context.Canceled) })
	found := map[string]driver.Device{}
	for len(found) < len(want) {
		select {
		case c := <-told:
			for _, name := range want {
				if c.ID == "emulator "+name {
					d, err := c.Open("kaede-7-" + name)
					require.NoError(t, err)
					t.Cleanup(func() { require.NoError(t, d.Close()) })
					found[name] = d
				}
			}
		case <-time.After(30 * time.Second):
			require.FailNow(t, "the emulators are not found")
		}
	}
	return found
}

func TestEmulatorsAreBootedUsedHaltedAndEmptied(t *testing.T) {
	s := debianServer(t)
	imageTools(t, map[string]string{"one": ""})
	d := emulatorsOf(t, s, "one")["one"]
	ctx := context.Background()
	v, ok := device.As[device.Virtual](d)
	require.True(t, ok)
	require.False(t, v.Up())
	f := d.Describe()
	require.Equal(t, []any{fleet.Emulator, "Kaede 7 one", "15", 408, 896, 2048, 2560, 2}, []any{f.Kind, f.Model, f.OS, f.Width, f.Height,
		f.MemoryMB, f.TakesMB, f.TakesCPUs})
	_, err := d.Tree(ctx)
	require.ErrorIs(t, err, errOff)
	require.NoError(t, v.Boot(ctx, time.Minute, true))
	require.True(t, v.Up())
	require.NotEmpty(t, v.BootLog())
	require.Equal(t, f, d.Describe())
	require.ElementsMatch(t, f.Abilities, append(device.Names(d), "tree", "back"), "what it says it can it can once it is up")
	require.NoError(t, hour(d, probeApp(t)))
	feels := func() string {
		t.Helper()
		a, ok := device.As[device.Aware](d)
		require.True(t, ok)
		f, err := a.Feels(ctx, "example.probe")
		require.NoError(t, err)
		return f.Network
	}
	n, ok := device.As[device.Networked](d)
	require.True(t, ok)
	for _, of := range []struct {
		network device.Network
		is      string
	}{{device.Slow, "slow"}, {device.Network{None: true}, "none"}, {device.Network{Delay: time.Second}, "other"}, {device.Network{}, "normal"}, {device.Slow, "slow"}} {
		require.NoError(t, n.SetNetwork(ctx, of.network))
		require.Equal(t, of.is, feels(), "its console makes it so")
	}
	require.ErrorIs(t, n.SetNetwork(ctx, device.Network{Loss: 0.1}), device.ErrNoAbility)
	require.NoError(t, d.Clean(ctx, driver.CleanApp, "example.probe"))
	require.Equal(t, "normal", feels(), "cleaning undoes it")
	require.NoError(t, v.Halt(ctx))
	require.False(t, v.Up())
	require.NoError(t, v.Empty(ctx))
	require.NoError(t, d.Ready(ctx, driver.Terms{RealTime: true}), "it is booted where it is off")
	require.NoError(t, d.Clean(ctx, driver.CleanDevice))
	require.False(t, v.Up())
}

func TestAnEmulatorThatDoesNotComeUpSaysWhy(t *testing.T) {
	s := debianServer(t)
	imageTools(t, map[string]string{"slow": "hang", "bare": "kvm", "full": "dies"})
	found := emulatorsOf(t, s, "slow", "bare", "full")
	for name, says := range map[string]string{"bare": "hardware acceleration", "full": "Not enough space"} {
		v, _ := device.As[device.Virtual](found[name])
		err := v.Boot(context.Background(), time.Minute, true)
		var own *device.Trouble
		require.True(t, errors.As(err, &own), "%v", err)
		require.Contains(t, own.Why, says)
		require.False(t, v.Up())
	}
	v, _ := device.As[device.Virtual](found["slow"])
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
	defer stop()
	require.ErrorContains(t, v.Boot(ctx, time.Minute, true), "not up in time")
	require.False(t, v.Up())
}

func TestEmulatorsAreMadeAndRemoved(t *testing.T) {
	s := debianServer(t)
	imageTools(t, map[string]string{"theirs": ""})
	root := t.TempDir()
	t.Setenv("ANDROID_HOME", root)
	for _, dir := range []string{"android-34/default/" + abiHere, "android-35/google_apis/" + abiHere, "android-35/default/" + abiHere,
		"android-36/default/riscv64", "android-TiramisuPrivacySandbox/default/" + abiHere} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "system-images", dir), 0o755))
	}
	t.Setenv("ANDROID_ADB_SERVER_PORT", s.Address[len("127.0.0.1:"):])
	site, _, err := driver.Read([]byte("site: cable\ndriver: android\nandroid: {emulator: ['" + testbin.Program(t) + "', standin, emulator]}\n" +
		"models:\n  - {model: Kaede Mini, platform: android, form: phone, width: 316, height: 632, memory_mb: 2048, takes_cpus: 1}\n"))
	require.NoError(t, err)
	home := t.TempDir()
	search := func() (*yard.Yard, <-chan yard.Found, func()) {
		v := &Driver{Server: *s}
		y, err := yard.Open(home, site, v)
		require.NoError(t, err)
		ctx, stop := context.WithCancel(context.Background())
		found, done := make(chan yard.Found, 8), make(chan error, 1)
		go func() { done <- y.Find(ctx, func(f yard.Found) error { found <- f; return nil }) }()
		return y, found, func() { stop(); require.ErrorIs(t, <-done, context.Canceled) }
	}
	y, found, stop := search()
	theirs := <-found
	require.Equal(t, []fleet.Image{{Platform: "android", OS: "15", ABI: abiHere, State: "present"}, {Platform: "android", OS: "14", ABI: abiHere,
		State: "present"}}, y.Offer().Images)
	d, err := y.Make("mini-one", "Kaede Mini", "Android 14")
	require.NoError(t, err)
	_, err = y.Make("mini-one", "Kaede Mini", "Android 14")
	require.ErrorContains(t, err, "there is a device named mini-one already")
	_, err = y.Make("theirs", "Kaede Mini", "Android 14")
	require.ErrorContains(t, err, "the image tools have an emulator named theirs already")
	_, err = y.Make("mini-two", "Kaede Mini", "Android 16")
	require.ErrorContains(t, err, "Android 16 is not here")
	f := d.Describe()
	require.Equal(t, []any{"mini-one", "Kaede Mini", "14", 316, 632, 2048}, []any{f.Name, f.Model, f.OS, f.Width, f.Height, f.MemoryMB})
	v, ok := device.As[device.Virtual](d)
	require.True(t, ok)
	require.NoError(t, v.Boot(context.Background(), time.Minute, true))
	_, err = d.Tree(context.Background())
	require.NoError(t, err)
	require.NoError(t, d.Close())
	stop()

	y, found, stop = search() // the host was started anew
	names := map[string]driver.Device{}
	for range 2 {
		one := <-found
		names[one.Name] = one.Came
	}
	require.Contains(t, names, "mini-one", "it is found under the name that it was given")
	require.ErrorContains(t, y.Remove(theirs.Name, names[theirs.Name]), "made by the OS's image tools")
	require.NoError(t, y.Remove("mini-one", names["mini-one"]))
	left, err := EmulatorNames()
	require.NoError(t, err)
	require.Equal(t, []string{"theirs"}, left, "nothing of it is left on the machine")
	stop()
}

// An emulator that somebody else has started may have a console that nobody here can talk to: it is cleaned all the same,
// and not believed to be slow.
func TestAConsoleThatDoesNotAnswerKeepsNoEmulatorFromBeingCleaned(t *testing.T) {
	e := &emulator{serial: "emulator-5680"}
	require.NoError(t, e.shape(context.Background(), device.Network{}))
	require.Error(t, e.shape(context.Background(), device.Slow))
	require.Error(t, e.shape(context.Background(), device.Network{}), "what may be slow is not called clean")
}
