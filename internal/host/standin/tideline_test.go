package standin_test

import (
	"context"
	"errors"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/testbin"
)

// pictures keeps what a case records; its PNGs are written to dir if that is set.
type pictures struct {
	t     *testing.T
	dir   string
	count int
}

func (p *pictures) Step(script.StepRecord) {}

func (p *pictures) Picture(name string, pic device.Picture, _ *screen.Tree, marks []screen.Rect, crop screen.Rect) {
	img, err := pic.Image()
	require.NoError(p.t, err)
	p.count++
	if p.dir != "" {
		f, err := os.Create(filepath.Join(p.dir, fmt.Sprintf("%s-%s.png", filepath.Base(p.t.Name()), name)))
		require.NoError(p.t, err)
		require.NoError(p.t, errors.Join(png.Encode(f, img), f.Close()))
	}
}

// bench gives the stand-ins of the scenario's site.
func bench(t *testing.T) []driver.Device {
	t.Helper()
	text, err := demo.Site("bench", demo.Here{})
	require.NoError(t, err)
	site, err := driver.ReadSite(text)
	require.NoError(t, err)
	devices, err := standin.Open(site, []string{testbin.Program(t), sandbox.Argument})
	require.NoError(t, err)
	t.Cleanup(func() {
		for _, d := range devices {
			require.NoError(t, d.Close())
		}
	})
	return devices
}

// install puts a version of the sample app on a device.
func install(t *testing.T, d driver.Device, v demo.Version, language string) {
	t.Helper()
	packages := demotest.Packages(t, v)
	at := map[string]int{"android": 0, "ios": 1}[d.Describe().Platform]
	path := filepath.Join(t.TempDir(), packages[at].File)
	require.NoError(t, os.WriteFile(path, packages[at].Data, 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	p, err := appfile.Read(f, int64(len(packages[at].Data)))
	require.NoError(t, err)
	ctx := context.Background()
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	require.NoError(t, feel.Named(feel.Language).Do(ctx, d, "", language))
	require.NoError(t, d.Install(ctx, driver.App{Package: *p, Path: path}))
}

func run(t *testing.T, d driver.Device, suite string) map[string]script.Result {
	t.Helper()
	s, o := demotest.SampleSuite(t, suite), demotest.SampleOptions(t, d)
	out := map[string]script.Result{}
	for i := range s.Cases {
		rec := &pictures{t: t, dir: os.Getenv("YAMATO_TEST_PICTURES")}
		out[s.Cases[i].Name] = script.RunCase(context.Background(), s, s.Cases[i], d, o, rec)
	}
	return out
}

func TestTheSampleAppOnEveryDeviceOfTheBench(t *testing.T) {
	for _, d := range bench(t) {
		t.Run(d.Describe().Name, func(t *testing.T) {
			install(t, d, demo.Versions[0], "en-GB")
			for name, r := range run(t, d, "tickets.yamato") {
				require.Equal(t, verdict.Pass, r.Verdict, "%s: %+v", name, r.Failure)
			}
			d.(device.Chancy).SetChance(7)
			for name, r := range run(t, d, "timetable.yamato") {
				require.Equal(t, verdict.Pass, r.Verdict, "%s: %+v", name, r.Failure)
			}
		})
	}
}

func TestTheFareOfThreeIsWrongIn320Everywhere(t *testing.T) {
	testbin.Unhurried(t)
	for _, d := range bench(t) {
		t.Run(d.Describe().Name, func(t *testing.T) {
			install(t, d, demo.Versions[1], "en-GB")
			results := run(t, d, "tickets.yamato")
			for name, r := range results {
				want := verdict.Pass
				if name == "three passengers pay three single fares" {
					want = verdict.Fail
					require.Equal(t, "number in #total = 9.45", r.Failure.Expected)
					require.Regexp(t, `^it is 6\.3, 3\.15 too little: #total shows "€6\.30"$`, r.Failure.Actual)
				}
				require.Equal(t, want, r.Verdict, "%s: %+v", name, r.Failure)
			}
		})
	}
}
