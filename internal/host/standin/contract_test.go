package standin_test

import (
	_ "embed"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/testbin"
)

// probe is the probe app of devicetest for stand-ins.
//
//go:embed testdata/probe.js
var probe string

// TestStandInsKeepTheContractOfDevices has two busy loops beside one of them.
func TestStandInsKeepTheContractOfDevices(t *testing.T) {
	for i, of := range []fleet.Device{
		{Name: "kaede-7-1", Kind: fleet.Emulator, Platform: "android", Model: "Kaede 7", OS: "14", Form: "phone",
			Width: 408, Height: 896, MemoryMB: 8192},
		{Name: "aster-12-1", Kind: fleet.Simulator, Platform: "ios", Model: "Aster 12", OS: "18", Form: "phone",
			Width:  388,
			Height: 848, MemoryMB: 6144},
		{Name: "kaede-7-r1", Kind: fleet.Real, Platform: "android", Model: "Kaede 7", OS: "14", Form: "phone",
			Width:  408,
			Height: 896, MemoryMB: 8192},
		{Name: "aster-12-r1", Kind: fleet.Real, Platform: "ios", Model: "Aster 12", OS: "18", Form: "phone", Width: 388,
			Height: 848, MemoryMB: 6144},
	} {
		t.Run(of.Name, func(t *testing.T) {
			if i == 0 {
				devicetest.Busy(t)
			}
			devicetest.Run(t, func(t *testing.T) devicetest.Subject {
				d := standin.New(standin.Config{Device: of, Cutout: "none", Scale: 2,
					Sandbox: []string{testbin.Program(t),
						sandbox.Argument}})
				t.Cleanup(func() { require.NoError(t, d.Close()) })
				packed := map[string]func(demo.App) ([]byte, error){"android": demo.PackAndroid,
					"ios": demo.PackSimulator}[of.Platform]
				data, err := packed(demo.App{ID: "example.probe", Name: "Probe", Version: demo.Version{Name: "1.0",
					Code: 1},
					MinimumAPI: 30, MinimumIOS: "16.0", Program: []byte(probe),
					Permissions: []string{"android.permission.ACCESS_COARSE_LOCATION",
						"android.permission.POST_NOTIFICATIONS"}})
				require.NoError(t, err)
				path := filepath.Join(t.TempDir(), "probe")
				require.NoError(t, os.WriteFile(path, data, 0o600))
				f, err := os.Open(path)
				require.NoError(t, err)
				defer f.Close()
				p, err := appfile.Read(f, int64(len(data)))
				require.NoError(t, err)
				return devicetest.Subject{Device: d.Whole(), App: driver.App{Package: *p, Path: path}}
			})
		})
	}
}
