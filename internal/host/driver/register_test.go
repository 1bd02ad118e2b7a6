package driver

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
)

func TestAMisspeltDriverIsToldWithTheNearest(t *testing.T) {
	failing := errors.New("it cannot be opened here")
	Register("benchtop", func() (Driver, error) { return nil, failing })
	t.Cleanup(func() { delete(drivers, "benchtop") })
	_, err := Named("benchtop")
	require.ErrorIs(t, err, failing, "a driver says itself why it cannot be had")
	_, err = Named("benhctop")
	require.ErrorContains(t, err, `did you mean "benchtop"?`)
	_, err = Named("zzz")
	require.ErrorContains(t, err, "there are")
}

func TestADeviceHasWhatItsModelHasButForWhatIsNeverVirtual(t *testing.T) {
	m := fleet.Model{Model: "Kaede 7", Platform: "android", Form: "phone", Width: 408, Height: 896, MemoryMB: 8192,
		TakesMB: 2048, TakesCPUs: 1, ABI: "arm64-v8a", Traits: []string{"camera", "location", "push"}}
	s := &Site{Name: "bench"}
	virtual := s.Describe(SiteDevice{Name: "kaede-7-1", Kind: fleet.Emulator, OS: "14"}, m)
	require.Equal(t, []string{"location"}, virtual.Traits)
	require.Equal(t, "x86_64", virtual.ABI, "it runs on this machine's processors")
	require.Equal(t, 2048, virtual.TakesMB)
	real := s.Describe(SiteDevice{Name: "kaede-7-r1", Kind: fleet.Real, OS: "14"}, m)
	require.Equal(t, m.Traits, real.Traits)
	require.Equal(t, "arm64-v8a", real.ABI)
	require.Zero(t, real.TakesMB, "it takes nothing of its host")
	require.Equal(t, []string{"camera", "location", "push"}, m.Traits, "the model stays as it is")
}
