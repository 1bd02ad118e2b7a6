package android

import (
	"bytes"
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin/pack"
)

// inParts is the probe of a version as an app that is split: for processors, densities and languages.
func inParts(t *testing.T, code int, abis ...string) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	add := func(file, split string, change func(*demo.App)) {
		a := demo.App{ID: "example.probe", Name: "Probe", Version: demo.Version{Name: "1.0", Code: code}, MinimumAPI: 29, Split: split,
			Texts: map[string]map[string]string{"app_name": {"": "Probe"}}}
		change(&a)
		data, err := demo.PackAndroid(a)
		require.NoError(t, err)
		out[file] = data
	}
	add("base.apk", "", func(a *demo.App) {
		a.Program = []byte(`os.show(() => ui.column({pad: 30}, ui.text({id: 'hello', text: 'In parts'})));`)
	})
	for _, abi := range abis {
		add("split_"+abi+".apk", "config."+map[string]string{"x86_64": "x86_64", "arm64-v8a": "arm64_v8a"}[abi], func(a *demo.App) {
			a.Extra = map[string][]byte{"lib/" + abi + "/libprobe.so": []byte("\x7fELF")}
		})
	}
	for _, split := range []string{"config.mdpi", "config.xxhdpi", "config.pt"} {
		add("split_"+split+".apk", split, func(*demo.App) {})
	}
	return out
}

func asApp(t *testing.T, packages map[string][]byte) driver.App {
	t.Helper()
	data, err := pack.Set(packages)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "probe.zip")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	p, err := appfile.Read(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	return driver.App{Package: *p, Path: path}
}

func TestAnAppThatIsSplitIsInstalledAsThisPhoneWantsIt(t *testing.T) {
	s := debianServer(t)
	_, at := plugIn(t, generation{"15", 35}, "KAEDEPARTS")
	connected(t, s, at)
	ctx := context.Background()
	d := opened(t, s, at)
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	both := inParts(t, 2, "x86_64", "arm64-v8a")
	require.NoError(t, d.Install(ctx, asApp(t, both)))
	const there = "package:/data/app/example.probe-1/base.apk\npackage:/data/app/example.probe-1/split_config.pt.apk\n" +
		"package:/data/app/example.probe-1/split_config.x86_64.apk\npackage:/data/app/example.probe-1/split_config.xxhdpi.apk\n"
	require.Equal(t, there, shell(t, s, at, "pm path example.probe"))
	require.NoError(t, d.Start(ctx, "example.probe", device.Fresh))
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	require.Len(t, screen.Locator{ID: "hello"}.Find(tree), 1)

	require.NoError(t, d.Install(ctx, asApp(t, inParts(t, 3, "x86_64"))), "updated")
	require.ErrorContains(t, d.Install(ctx, asApp(t, inParts(t, 4, "arm64-v8a"))), "none of its packages is for the instruction sets of this device (x86_64)")
	require.Equal(t, there, shell(t, s, at, "pm path example.probe"), "what was there stays")

	// Debian's own client does the same.
	require.Equal(t, "Success\n", shell(t, s, at, "pm uninstall example.probe"))
	dir := t.TempDir()
	_, port, _ := net.SplitHostPort(s.Address)
	multiple := func(files ...string) (string, error) {
		args := []string{"-P", port, "-s", at, "install-multiple"}
		for _, name := range files {
			path := filepath.Join(dir, name)
			require.NoError(t, os.WriteFile(path, both[name], 0o600))
			args = append(args, path)
		}
		out, err := exec.Command("adb", args...).CombinedOutput()
		return string(out), err
	}
	out, err := multiple("base.apk", "split_x86_64.apk", "split_config.xxhdpi.apk", "split_config.pt.apk")
	require.NoError(t, err, out)
	require.Equal(t, there, shell(t, s, at, "pm path example.probe"))
	out, err = multiple("split_x86_64.apk", "split_config.pt.apk")
	require.Error(t, err)
	require.Contains(t, out, "Full install must include a base package")
}
