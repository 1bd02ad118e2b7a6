package remote

import (
	"archive/zip"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/host/keeper"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == keeper.Argument {
		os.Exit(keeper.Run(os.Args[2:]))
	}
	os.Exit(m.Run())
}

func keeps() []string {
	self, err := os.Executable()
	if err != nil {
		panic(err)
	}
	return []string{self, keeper.Argument}
}

// bundled zips a folder and reads it as the service would.
func bundled(t *testing.T, dir fs.FS) driver.App {
	t.Helper()
	file := filepath.Join(t.TempDir(), "app.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	require.NoError(t, z.AddFS(dir))
	require.NoError(t, z.Close())
	info, err := f.Stat()
	require.NoError(t, err)
	p, err := appfile.Read(f, info.Size())
	require.NoError(t, err)
	require.NoError(t, f.Close())
	return driver.App{Package: *p, Path: file}
}

// probe is the app of package devicetest for browsers.
func probe(t *testing.T) driver.App { return bundled(t, os.DirFS("../handset/testdata/probe")) }

// facts are a Kaede 7's.
func facts(name, os string) fleet.Device {
	return fleet.Device{Name: name, Site: "desk", Kind: fleet.Emulator, Platform: "web", Model: "Kaede 7", Form: "phone", OS: os,
		Width: 408, Height: 896, MemoryMB: 8192, Traits: []string{}}
}

// kept is a device that is used again and again, cleaned meanwhile as hosts do, and closed with the test.
func kept[D driver.Device](t *testing.T, d D) func(t *testing.T) D {
	t.Helper()
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return func(t *testing.T) D {
		ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
		defer stop()
		require.NoError(t, d.Clean(ctx, driver.CleanApp))
		return d
	}
}

func TestGeckoKeepsTheContractOfDevices(t *testing.T) {
	t.Parallel()
	d := kept(t, NewGecko(Config{Device: facts("kaede-7-g1", "Gecko 153")}, keeps(), ""))
	devicetest.Run(t, func(t *testing.T) devicetest.Subject {
		return devicetest.Subject{Device: d(t), App: probe(t)}
	})
}

func TestWebKitKeepsTheContractOfDevices(t *testing.T) {
	t.Parallel()
	d := kept(t, NewWebKit(Config{Device: facts("kaede-7-w1", "WebKit 2.50")}, keeps(), ""))
	devicetest.Run(t, func(t *testing.T) devicetest.Subject {
		return devicetest.Subject{Device: d(t), App: probe(t)}
	})
}
