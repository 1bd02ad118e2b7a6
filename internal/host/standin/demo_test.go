package standin

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/host/driver"
)

// demoDevices are the stand-ins of all sites of the demo, by name, as they are at first.
func demoDevices(t *testing.T) map[string]*Device {
	t.Helper()
	out := map[string]*Device{}
	for _, name := range demo.Sites {
		if name == demo.Cable {
			continue // its devices are found
		}
		text, err := demo.Site(name, demo.Here{})
		require.NoError(t, err)
		site, err := driver.ReadSite(text)
		require.NoError(t, err)
		for _, d := range site.Devices {
			m, err := site.Find(d)
			require.NoError(t, err)
			require.NotContains(t, out, d.Name)
			out[d.Name] = New(Config{Device: site.Describe(d, m), State: ownPart(t, d)})
		}
	}
	return out
}

func TestEachCheckOfReadinessFailsOnADeviceOfTheDemo(t *testing.T) {
	fails, checks := map[string]string{}, map[string]bool{}
	devices := demoDevices(t)
	for _, name := range slices.Sorted(maps.Keys(devices)) {
		h, err := devices[name].Health(context.Background())
		require.NoError(t, err)
		for _, c := range fleet.Readiness(devices[name].config.Device, h) {
			checks[c.ID] = true
			if !c.OK {
				require.NotEmpty(t, c.Remedy)
				fails[c.ID] = name
			}
		}
	}
	require.Equal(t, slices.Sorted(maps.Keys(checks)), slices.Sorted(maps.Keys(fails)), "%v", fails)
	require.Len(t, fails, 11)
}

// theDays are days on which the demo is to be the same: as it was made, after what expires
// by then would have, and years later, at a month's end.
var theDays = []time.Time{time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC), time.Date(2027, 7, 31, 23, 59, 0, 0,
	time.UTC), time.Date(2032, 2, 29, 3, 0, 0, 0, time.UTC)}

// sample reads all builds of the sample project as they are packed on a day.
func sample(t *testing.T, day time.Time) [][]appfile.Package {
	t.Helper()
	var out [][]appfile.Package
	read := func(packages []demo.Package, err error) {
		require.NoError(t, err)
		var build []appfile.Package
		for _, p := range packages {
			one, err := appfile.Read(bytes.NewReader(p.Data), int64(len(p.Data)))
			require.NoError(t, err, p.File)
			build = append(build, *one)
		}
		out = append(out, build)
	}
	for _, v := range append(slices.Clone(demo.Versions), demo.Newest) {
		read(demo.Packages(v, day))
	}
	for _, v := range demo.CounterVersions {
		read(demo.CounterPackages(v))
	}
	return out
}

func TestEachReasonOfFitIsSeenInTheDemoOnAnyDay(t *testing.T) {
	devices := demoDevices(t)
	for _, day := range theDays {
		said := map[string]bool{}
		for _, build := range sample(t, day) {
			for _, d := range devices {
				_, reasons := fleet.Fit(build, d.config.Device, d.state.Installed, day)
				for _, r := range reasons {
					require.NotEmpty(t, r.Remedy, r.Why)
					said[r.Why] = true
				}
			}
		}
		all := strings.Join(slices.Sorted(maps.Keys(said)), "\n")
		for _, reason := range []string{
			"an .ipa runs on real devices only", "a simulator app runs on simulators only",
			"a test package does not run by itself", "the build holds no Android package (.apk)",
			"needs Android 14; this one has 13", "its native code is for armeabi-v7a; this one is x86_64",
			"is made for a tablet; this one is a phone", "requires nfc; this one has none",
			"is not signed", "it holds no provisioning profile", "the profile expired on " + day.AddDate(0, 0,
				-day.Day()+1).AddDate(0, -1, 0).Format("2 January 2006"), "the profile does not list this phone",
			"another app of that id, signed differently, is installed", "a newer version (63) is installed",
		} {
			require.Contains(t, all, reason, "%s", day)
		}
	}
}

// What the demo runs, and what it leaves out, is the same on any day; what its cases then
// find is a function of the seed and of the devices' own clocks.
func TestTheDemoCoversTheSameOnAnyDay(t *testing.T) {
	var candidates []matrix.Candidate
	for name, d := range demoDevices(t) {
		candidates = append(candidates, matrix.Candidate{ID: int64(len(name)),
			Standing:  fleet.Standing{Device: d.config.Device, State: "idle"},
			Condition: fleet.Condition{Installed: d.state.Installed}})
	}
	slices.SortFunc(candidates, func(a, b matrix.Candidate) int { return strings.Compare(a.Name, b.Name) })
	levels, _ := fleet.UsualLevels(nil)
	date := regexp.MustCompile(`\d+ [A-Z][a-z]+ 20\d\d`)
	var before string
	for i, day := range theDays {
		var b strings.Builder
		for _, build := range sample(t, day) {
			m := matrix.Combine(build, candidates, nil, levels, "Aya", day)
			fmt.Fprintf(&b, "%+v\n", m)
		}
		covers := date.ReplaceAllString(b.String(), "a day")
		if i > 0 {
			require.Equal(t, before, covers)
		}
		before = covers
	}
}

func ownPart(t *testing.T, d driver.SiteDevice) (s State) {
	t.Helper()
	require.NoError(t, d.Own[Name].Read(&s))
	return s
}
