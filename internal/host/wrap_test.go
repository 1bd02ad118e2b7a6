package host

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/link"
)

// own is somebody's phone that has a log, which no wrapper knows of.
type own struct {
	patient
	tree *screen.Tree
}

func (o *own) Describe() fleet.Device {
	return fleet.Device{Name: "bos-phone", Platform: "android", Owner: "Bo Lindqvist"}
}
func (o *own) Tree(context.Context) (*screen.Tree, error)           { return o.tree, nil }
func (o *own) Press(context.Context, string) error                  { return nil }
func (o *own) Installed(context.Context) ([]fleet.Installed, error) { return nil, nil }

func TestAbilitiesAreFoundThroughWhateverWrapsADevice(t *testing.T) {
	d := &own{tree: still}
	var wrapped device.Device = attentive{discreet{d, &worker{app: "example.tideline"}}, &worker{device: d}, false,
		func() {}}
	holding, ok := device.As[device.Holding](wrapped)
	require.True(t, ok)
	require.Equal(t, device.Holding(d), holding, "the device's own, not a double")
	_, ok = device.As[device.Virtual](wrapped)
	require.False(t, ok, "an ability that it has not it does not get by being wrapped")
	_, ok = device.As[device.TextEntry](wrapped)
	require.False(t, ok)
	require.NoError(t, device.EnterText(context.Background(), wrapped, "without that ability text goes by keys"))
}

func TestSomebodysOwnDeviceShowsTheAppUnderTestAndNothingElse(t *testing.T) {
	private := &screen.Tree{App: "example.letters", Width: 400, Height: 800, Language: "en-GB", Revision: 9,
		Root: &screen.Node{Role: "text", Text: "Dear Aya"}}
	d := &own{tree: private}
	seen, err := discreet{d, &worker{app: "example.tideline"}}.Tree(context.Background())
	require.NoError(t, err)
	require.NotContains(t, seen.Root.Label()+seen.Root.Text, "Aya")
	require.Equal(t, []any{400, 800, uint64(9)}, []any{int(seen.Width), int(seen.Height), seen.Revision},
		"changes are noticed all the same")
	_, err = discreet{d, &worker{app: "example.tideline"}}.Picture(context.Background())
	require.ErrorContains(t, err, "something else than the app under test")
	seen, err = discreet{d, &worker{app: "example.letters"}}.Tree(context.Background())
	require.NoError(t, err)
	require.Equal(t, private, seen)
	_, err = discreet{d, &worker{app: ""}}.Picture(context.Background())
	require.Error(t, err, "without an app under test nothing is shown")
}

// What a newer service leases a device for this host may not know: it says so, cleans the
// device, and goes on with what it knows.
func TestALeaseForSomethingUnknownIsEndedAndItsDeviceCleaned(t *testing.T) {
	b, p := newBedside(t), &patient{}
	runHost(t, b, p, t.TempDir())
	b.hello()
	b.toHost <- link.ToHost{Leases: []link.Lease{{Number: 1, Holder: "tour", Device: "kaede-7-1", TTLMS: 60_000}}}
	require.Contains(t, b.event(finishedOf(1)).Finished.Trouble, "does not know what the lease is for")
	b.event(cleanOf(1))
	b.lease(2, time.Minute)
	require.Empty(t, b.event(finishedOf(2)).Finished.Trouble)
}
