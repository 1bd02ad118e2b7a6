package pictures

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"image"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

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
	at := func(ms int, look string) Frame {
		return Frame{time.Duration(ms) * time.Millisecond, drawing{look, &drawn}}
	}
	var g Gallery
	var out bytes.Buffer
	err := Film(&out, []Frame{at(0, "home"), at(400, "home"), at(900, "tickets"), at(1400, "home")}, &g)
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

	err = Film(&out, []Frame{at(0, "home"), at(1, "map")}, &g)
	require.NoError(t, err)
	require.Equal(t, 3, drawn, "the gallery remembers over films")
}
