package fleet

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/states"
)

func TestAHandsetsEngineIsPartOfItsClass(t *testing.T) {
	blink := Device{Name: "h1", Kind: Emulator, Platform: "web", Model: "Kaede 7", OS: "156"}
	gecko := blink
	gecko.Name, gecko.OS = "g1", "Gecko 156"
	require.NotEqual(t, ClassOf(blink), ClassOf(gecko), "of the same version or not")
	require.Equal(t, "Kaede 7, web 156", ClassOf(blink).Label())
	require.Equal(t, "Kaede 7, Gecko 156", ClassOf(gecko).Label())
	require.Equal(t, []string{Blink, Gecko, ""}, []string{FactorNamed("engine").Of(blink), FactorNamed("engine").Of(gecko),
		FactorNamed("engine").Of(Device{Platform: "android", OS: "14"})})
	require.Zero(t, compareVersions("Gecko 153", "153"))
	require.Positive(t, compareVersions("WebKit 2.50.6", "WebKit 2.9"))

	taken := func(text string) (out []string) {
		l, err := ReadLineup(text)
		require.NoError(t, err)
		for _, c := range l.Choose([]Standing{{Device: blink, State: states.DeviceIdle}, {Device: gecko, State: states.DeviceIdle}}, "", time.Now()).Taken {
			out = append(out, c.Name)
		}
		return out
	}
	require.Equal(t, []string{"g1"}, taken("lineup: l\npick:\n  - {engine: Gecko}\n"))
	require.Equal(t, []string{"h1"}, taken("lineup: l\npick:\n  - {engine: [Blink, WebKit], os: 150..}\n"))
	_, err := ReadLineup("lineup: l\npick:\n  - {engine: Presto}\n")
	require.ErrorContains(t, err, "Gecko")
}
