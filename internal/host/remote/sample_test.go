package remote

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
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/devicetest/eye"
	"yamato/internal/host/devicetest/foreign"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

// engines are handsets of each engine, each made when a test asks for it.
var engines = map[string]func() driver.Device{
	"Gecko": func() driver.Device { return NewGecko(Config{Device: facts("kaede-7-g1", "Gecko 153")}, keeps(), "") },
	"WebKit": func() driver.Device {
		return NewWebKit(Config{Device: facts("kaede-7-w1", "WebKit 2.50")}, keeps(), "")
	},
}

// opened has an app in front of a handset.
func opened(t *testing.T, d driver.Device, app driver.App) context.Context {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Minute)
	t.Cleanup(stop)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Start(ctx, app.Package.ApplicationID, device.Fresh))
	return ctx
}

// tideline is the web bundle of a version of the sample app.
func tideline(t *testing.T, v demo.Version) driver.App {
	t.Helper()
	data := demotest.Packages(t, v)[3].Data
	path := filepath.Join(t.TempDir(), "app.zip")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	read, err := appfile.Read(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	return driver.App{Package: *read, Path: path}
}

// nobody keeps nothing of what a case records.
type nobody struct{}

func (nobody) Step(script.StepRecord)                                                   {}
func (nobody) Picture(string, device.Picture, *screen.Tree, []screen.Rect, screen.Rect) {}

// The verdicts on the sample app are those that the browser of package handset comes to.
func TestTheSampleAppRunsOnEveryEngine(t *testing.T) {
	testbin.Unhurried(t)
	for engine, made := range engines {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			d := made()
			opened(t, d, tideline(t, demo.Versions[1]))
			for _, suite := range []string{"tickets.yamato", "map.yamato", "wallet.yamato", "settings.yamato"} {
				s, o := demotest.SampleSuite(t, suite), demotest.SampleOptions(t, d)
				o.App = demo.ApplicationID
				for _, c := range s.Cases {
					r := devicetest.Unhindered(t, func() script.Result { return script.RunCase(context.Background(), s, c, d, o, nobody{}) })
					want, actual := verdict.Pass, ""
					switch c.Name {
					case "three passengers pay three single fares":
						want, actual = verdict.Fail, `it is 6.3, 3.15 too little: #total shows "€6.30"`
					case "who would rather not be found sees the islands":
						want, actual = verdict.Fail, `it shows "Looking for you"`
					}
					if lacks := map[string]bool{"who may be found is told where": true, "who would rather not be found sees the islands": true,
						"the wallet is the same after the app was away": true}; engine == "WebKit" && lacks[c.Name] {
						want, actual = verdict.Skip, "" // it knows no place, and cannot be sent away
					}
					t.Logf("%s: %s", c.Name, r.Verdict)
					if !assertVerdict(t, c.Name, want, r) || actual == "" {
						continue
					}
					require.Equal(t, actual, r.Failure.Actual)
				}
			}
		})
	}
}

func assertVerdict(t *testing.T, name string, want verdict.Verdict, r script.Result) bool {
	t.Helper()
	if r.Verdict != want {
		t.Errorf("%s: %s, and not %s: %+v %v", name, r.Verdict, want, r.Failure, r.Err)
	}
	return r.Verdict == want
}

func TestThePagesEyeIsAPersonsWithEveryEngine(t *testing.T) {
	testbin.Unhurried(t)
	for engine, made := range engines {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			d := made()
			ctx := opened(t, d, bundled(t, eye.All()))
			for _, p := range eye.Pages {
				tree := eye.Visited(t, ctx, d, p.File())
				for _, wrong := range p.Wrong(tree) {
					t.Errorf("%s: %s\n%s", p.Name, wrong, eye.Drawn(tree))
				}
			}
		})
	}
}

func TestAppsThatNobodyHereWroteAreJudgedOnEveryEngine(t *testing.T) {
	testbin.Unhurried(t)
	for engine, made := range engines {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			d := made()
			t.Cleanup(func() { require.NoError(t, d.Close()) })
			require.NoError(t, d.Ready(context.Background(), driver.Terms{}))
			for name, app := range foreign.Apps {
				if name != "todos" && os.Getenv("YAMATO_TEST_APPS") == "" { // they take minutes
					continue
				}
				t.Run(name, func(t *testing.T) {
					app.Judge(t, context.Background(), d, bundled)
					require.NoError(t, d.Clean(context.Background(), driver.CleanApp))
				})
			}
		})
	}
}
