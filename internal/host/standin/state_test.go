package standin

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
)

func TestADevicesOwnPartSaysWhatIsWrongWithIt(t *testing.T) {
	for part, says := range map[string]string{
		"{debugging: perhaps}":                   `not "perhaps"`,
		"{charge: 180}":                          "charge is 0 to 100",
		"{troubles: [{name: cable, chance: 7}]}": "its chance is 0 to 1",
		"{troubles: [{name: cabel}]}":            `did you mean "cable"?`,
		"{troubles: [{name: untrusted}]}":        "does not befall a real device of Android",
		"{chrage: 80}":                           "line 4: there is no `chrage`; did you mean `charge`?",
		"{charge: much}":                         "line 4: a whole number is needed here",
		"[a]":                                    "line 4: ",
	} {
		site, err := driver.ReadSite([]byte("site: bench\ndriver: standin\nmodels: [{model: Kaede 7, platform: " +
			"android, " +
			"width: 408, height: 896}]\ndevices: [{name: k, model: Kaede 7, kind: real, os: \"14\", standin: " +
			part + "}]"))
		require.NoError(t, err, part)
		v, err := NewDriver([]string{"nothing"})
		require.NoError(t, err)
		m, err := site.Find(site.Devices[0])
		require.NoError(t, err)
		_, err = v.Open(site, site.Devices[0], m)
		require.ErrorContains(t, err, says, part)
	}
}

func TestDeedsAndTroublesAreThoseThatTheDeviceCanHave(t *testing.T) {
	names := func(d fleet.Device) (out []string) {
		for _, one := range DeedsOf(d) {
			require.NotEmpty(t, one.Does)
			out = append(out, one.Name)
		}
		return out
	}
	emulator := fleet.Device{Kind: fleet.Emulator, Platform: "android"}
	require.Contains(t, names(emulator), "trouble black")
	require.NotContains(t, names(emulator), "trouble cable")
	require.NotContains(t, names(emulator), "unplug")
	phone := fleet.Device{Name: "p", Kind: fleet.Real, Platform: "ios"}
	require.Contains(t, names(phone), "trust-developer")
	require.NotContains(t, names(phone), "trouble hang")
	d := New(Config{Device: phone})
	require.ErrorContains(t, d.Deed(t.Context(), "trouble black", -1),
		"does not befall a real device of iOS; to mend it: it can have behind, cable,")
	require.ErrorContains(t, d.Deed(t.Context(), "allow-once", 0), "cannot be done to a real device of iOS")
	require.ErrorContains(t, d.Deed(t.Context(), "unplug it", 0), "takes nothing after it")
	require.NoError(t, d.Deed(t.Context(), "unplug", 0))
}
