package handset

import (
	"archive/zip"
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/host/keeper"
)

// holdArgument makes this test's program hold a browser in a folder until it is killed.
const holdArgument = "hold-browser"

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == keeper.Argument {
		os.Exit(keeper.Run(os.Args[2:]))
	}
	if len(os.Args) > 2 && os.Args[1] == holdArgument {
		self, err := os.Executable()
		if err == nil {
			_, err = (&Browser{Keeper: []string{self, keeper.Argument}, Dir: os.Args[2]}).up(context.Background())
		}
		fmt.Println(map[bool]string{true: "up", false: "down"}[err == nil])
		select {} // until it is killed
	}
	os.Exit(m.Run())
}

// theBrowser is shared by this package's tests, as a host's handsets share one.
var theBrowser = sync.OnceValue(func() *Browser {
	self, err := os.Executable()
	if err != nil {
		panic(err)
	}
	return &Browser{Keeper: []string{self, keeper.Argument}, Log: slog.New(slog.DiscardHandler)}
})

// kaede is a handset with the screen of a Kaede 7.
func kaede(t *testing.T, reach ...string) *Device {
	t.Helper()
	return kaedeIn(t, theBrowser(), reach...)
}

// kaedeIn is one in a browser.
func kaedeIn(t *testing.T, b *Browser, reach ...string) *Device {
	t.Helper()
	d := New(Config{Reach: reach, Device: fleet.Device{Name: "kaede-7-h1", Site: "desk", Kind: fleet.Emulator,
		Platform: "web",
		Model:    "Kaede 7", Form: "phone", OS: "156", Width: 408, Height: 896, MemoryMB: 8192, Traits: []string{}}}, b)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
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

func probe(t *testing.T) driver.App { return bundled(t, os.DirFS("testdata/probe")) }

// opened has an app in front of a handset.
func opened(t *testing.T, d *Device, app driver.App) context.Context {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Minute)
	t.Cleanup(stop)
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Start(ctx, app.Package.ApplicationID, 1))
	return ctx
}

func TestHandsetsKeepTheContractOfDevices(t *testing.T) {
	t.Parallel()
	keep := kaede(t) // the browser stays up from one part to the next
	require.NoError(t, keep.Ready(context.Background(), driver.Terms{}))
	devicetest.Run(t, func(t *testing.T) devicetest.Subject {
		return devicetest.Subject{Device: kaede(t), App: probe(t)}
	})
}
