package host

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"image"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

// drawing is a picture that counts how often it is drawn.
type drawing struct {
	look  string
	drawn *int
}

func (d drawing) Image() (image.Image, error) {
	*d.drawn++
	img := image.NewGray(image.Rect(0, 0, 4, 4))
	copy(img.Pix, d.look)
	return img, nil
}

func (d drawing) Key() string { return d.look }

func TestAFilmHoldsWhatLooksDifferentAndDrawsItOnce(t *testing.T) {
	drawn := 0
	at := func(ms int, look string) frame {
		return frame{time.Duration(ms) * time.Millisecond, drawing{look, &drawn}}
	}
	var g gallery
	var out bytes.Buffer
	err := film(&out, []frame{at(0, "home"), at(400, "home"), at(900, "tickets"), at(1400, "home")}, &g)
	body := out.Bytes()
	require.NoError(t, err)
	require.Equal(t, 2, drawn, "what looks the same is drawn once")
	z, err := zip.NewReader(bytes.NewReader(body), int64(len(body)))
	require.NoError(t, err)
	read := func(name string) []byte {
		f, err := z.Open(name)
		require.NoError(t, err)
		defer f.Close()
		text, err := io.ReadAll(f)
		require.NoError(t, err)
		return text
	}
	var list []link.Frame
	require.NoError(t, json.Unmarshal(read(link.FilmList), &list))
	require.Equal(t, []link.Frame{{File: "000.png", AtMS: 0}, {File: "001.png", AtMS: 900},
		{File: "002.png", AtMS: 1400}}, list)
	require.NotEqual(t, read("000.png"), read("001.png"))

	err = film(&out, []frame{at(0, "home"), at(1, "map")}, &g)
	require.NoError(t, err)
	require.Equal(t, 3, drawn, "the gallery remembers over films")
}

// lit is a device whose screen can be seen, once it is on.
type lit struct {
	*patient
	on    bool
	drawn int
}

func (l *lit) Tree(context.Context) (*screen.Tree, error) {
	if !l.on {
		return nil, errors.New("the device is switched off")
	}
	return still, nil
}
func (l *lit) Picture(context.Context) (device.Picture, error) {
	return drawing{"home", &l.drawn}, nil
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
