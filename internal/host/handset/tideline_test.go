package handset

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

// pictures keeps what a case records; its PNGs are written to dir if that is set.
type pictures struct {
	t   *testing.T
	dir string
}

func (p *pictures) Step(script.StepRecord) {}

func (p *pictures) Picture(name string, pic device.Picture, _ *screen.Tree, _ []screen.Rect, _ screen.Rect) {
	img, err := pic.Image()
	require.NoError(p.t, err)
	if p.dir != "" {
		f, err := os.Create(filepath.Join(p.dir, fmt.Sprintf("%s-%s.png", filepath.Base(p.t.Name()), name)))
		require.NoError(p.t, err)
		require.NoError(p.t, errors.Join(png.Encode(f, img), f.Close()))
	}
}

// tideline is the web bundle of a version of the sample app.
func tideline(t *testing.T, v demo.Version) driver.App {
	t.Helper()
	packages := demotest.Packages(t, v)
	return packed(t, packages[3].Data)
}

// packed writes a package where a handset finds it.
func packed(t *testing.T, data []byte) driver.App {
	t.Helper()
	path := filepath.Join(t.TempDir(), "app.zip")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	read, err := appfile.Read(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	return driver.App{Package: *read, Path: path}
}

// judge runs all cases of a suite.
func judge(t *testing.T, d driver.Device, app, text string) map[string]script.Result {
	t.Helper()
	s, o := demotest.SampleSuite(t, text), demotest.SampleOptions(t, d)
	o.App = app
	out := map[string]script.Result{}
	for _, c := range s.Cases {
		out[c.Name] = devicetest.Unhindered(t, func() script.Result {
			return script.RunCase(context.Background(), s, c, d, o,
				&pictures{t: t, dir: os.Getenv("YAMATO_TEST_PICTURES")})
		})
	}
	return out
}

// judgeKnown runs the cases of a suite of which every step has matched before: what is not there is a fail.
func judgeKnown(t *testing.T, d driver.Device, app, text string, only ...string) map[string]script.Result {
	t.Helper()
	s, findings := script.Read(text)
	require.Empty(t, findings)
	out := map[string]script.Result{}
	for _, c := range s.Cases {
		if len(only) == 0 || slices.Contains(only, c.Name) {
			out[c.Name] = devicetest.Unhindered(t, func() script.Result {
				return script.RunCase(context.Background(), s, c, d, script.Options{App: app,
					Known: func(string) bool { return true }}, &pictures{t: t})
			})
		}
	}
	return out
}

func TestTheSampleAppRunsOnAHandset(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	for _, v := range demo.Versions {
		t.Run(v.Name, func(t *testing.T) {
			t.Parallel()
			d := kaede(t)
			opened(t, d, tideline(t, v))
			all := []string{"tickets.yamato", "map.yamato", "wallet.yamato", "settings.yamato", "timetable.yamato"}
			if v.Name == "3.2.0" { // its timetable is slow by chance
				all = all[:3]
			}
			for _, suite := range all {
				for name, r := range judge(t, d, demo.ApplicationID, suite) {
					want := verdict.Pass
					if v.Name == "3.2.0" && name == "three passengers pay three single fares" {
						want = verdict.Fail
						require.Equal(t, `it is 6.3, 3.15 too little: #total shows "€6.30"`, r.Failure.Actual)
					}
					if v.Name == "3.2.0" && name == "who would rather not be found sees the islands" {
						want = verdict.Fail // nobody catches what is thrown, and the map looks on
						require.Equal(t, `it shows "Looking for you"`, r.Failure.Actual)
					}
					require.Equal(t, want, r.Verdict, "%s: %+v", name, r.Failure)
				}
			}
		})
	}
}
