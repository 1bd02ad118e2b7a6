package host

import (
	"context"
	"errors"
	"image"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

// blank is a picture of nothing.
type blank struct{}

func (blank) Image() (image.Image, error) { return image.NewGray(image.Rect(0, 0, 4, 4)), nil }

// lit is a device whose screen can be seen, once it is on.
type lit struct {
	*patient
	on bool
}

func (l *lit) Tree(context.Context) (*screen.Tree, error) {
	if !l.on {
		return nil, errors.New("the device is switched off")
	}
	return still, nil
}
func (l *lit) Picture(context.Context) (device.Picture, error) {
	return blank{}, nil
}
func (l *lit) Ready(context.Context, driver.Terms) error { l.on = true; return nil }

func TestADeviceThatRestsIsWokenToBeSeenAndOneAtWorkIsNot(t *testing.T) {
	b := newBedside(t)
	d := &lit{patient: &patient{}}
	w := &worker{host: &Host{config: Config{Service: b}}, device: d, wishes: make(chan wish, 8)}
	var told link.Seen
	ask := wish{link.See{ID: 7, Device: "kaede-7-1"}, func(s link.Seen) { told = s }}

	w.show(context.Background(), ask, false)
	require.Equal(t, link.Seen{ID: 7, Trouble: "the device is switched off"}, told)
	w.show(context.Background(), ask, true)
	require.Empty(t, told.Trouble)
	require.Len(t, told.Picture, 64)
	require.Len(t, told.Tree, 64)
	require.Equal(t, 2, b.uploads)

	// While a case waits on it, wishes are answered between its looks at the screen.
	told = link.Seen{}
	w.wishes <- ask
	changed := 0
	require.NoError(t, w.attentive(true, func() { changed++ }).AwaitChange(context.Background(), 1, 0))
	require.EqualValues(t, 7, told.ID)
	require.Equal(t, 1, changed)
}
