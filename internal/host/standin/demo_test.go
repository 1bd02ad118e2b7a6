package standin

import (
	"bytes"
	"context"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/host"
)

// demoDevices are the stand-ins of all sites of the demo, by name, as they are at first.
func demoDevices(t *testing.T) map[string]*Device {
	t.Helper()
	out := map[string]*Device{}
	for _, name := range demo.Sites {
		text, err := demo.Site(name)
		require.NoError(t, err)
		site, err := host.ReadSite(text)
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

func TestEachReasonOfFitIsSeenInTheDemo(t *testing.T) {
	said := map[string]bool{}
	devices := demoDevices(t)
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	builds := [][]demo.Package{}
	for _, v := range append(slices.Clone(demo.Versions), demo.Newest) {
		packages, err := demo.Packages(v)
		require.NoError(t, err)
		builds = append(builds, packages)
	}
	for _, v := range demo.CounterVersions {
		packages, err := demo.CounterPackages(v)
		require.NoError(t, err)
		builds = append(builds, packages)
	}
	for _, packages := range builds {
		var read []appfile.Package
		for _, p := range packages {
			one, err := appfile.Read(bytes.NewReader(p.Data), int64(len(p.Data)))
			require.NoError(t, err, p.File)
			read = append(read, *one)
		}
		for _, d := range devices {
			_, reasons := fleet.Fit(read, d.config.Device, d.state.Installed, now)
			for _, r := range reasons {
				require.NotEmpty(t, r.Remedy, r.Why)
				said[r.Why] = true
			}
		}
	}
	all := strings.Join(slices.Sorted(maps.Keys(said)), "\n")
	for _, reason := range []string{
		"an .ipa runs on real devices only", "a simulator app runs on simulators only", "a test package does not run by itself", "the build holds no Android package (.apk)",
		"needs Android 14; this one has 13", "its native code is for armeabi-v7a; this one is x86_64", "is made for a tablet; this one is a phone", "requires nfc; this one has none",
		"is not signed", "it holds no provisioning profile", "the profile expired on 30 September 2026", "the profile does not list this phone",
		"another app of that id, signed differently, is installed", "a newer version (63) is installed",
	} {
		require.Contains(t, all, reason)
	}
}

func ownPart(t *testing.T, d host.SiteDevice) (s State) {
	t.Helper()
	require.NoError(t, d.Own[Name].Read(&s))
	return s
}
