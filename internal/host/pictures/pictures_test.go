package pictures

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
)

// white is a screen of 400 by 800 dp at two pixels a dp, with a blue square at 0,0.
type white struct{}

func (white) Image() (image.Image, error) {
	img := image.NewRGBA(image.Rect(0, 0, 800, 1600))
	draw.Draw(img, img.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(img, image.Rect(0, 0, 200, 200), image.NewUniform(color.RGBA{B: 255, A: 255}), image.Point{}, draw.Src)
	return img, nil
}

func TestAPictureIsMarkedAndCutInTheScreensOwnUnits(t *testing.T) {
	tree := &screen.Tree{Width: 400, Height: 800}
	shown := func(s Shot) image.Image {
		body, err := s.PNG()
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(body))
		require.NoError(t, err)
		return img
	}
	at := func(img image.Image, x, y int) color.NRGBA {
		return color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA)
	}
	box, other := screen.Rect{W: 100, H: 100}, screen.Rect{X: 200, Y: 200, W: 50, H: 50}

	cut := shown(Shot{Picture: white{}, Tree: tree, Crop: box})
	require.Equal(t, image.Rect(0, 0, 200, 200), cut.Bounds())
	require.Equal(t, color.NRGBA{B: 255, A: 255}, at(cut, 199, 199))
	marked := shown(Shot{Picture: white{}, Tree: tree, Marks: []screen.Rect{other}})
	require.Equal(t, image.Rect(0, 0, 800, 1600), marked.Bounds())
	require.Equal(t, markInk, at(marked, 2*225, 2*252), "the place is framed")
	require.Equal(t, color.NRGBA{R: 255, G: 255, B: 255, A: 255}, at(marked, 2*225, 2*225), "and can be seen")
	require.Equal(t, color.NRGBA{R: 255, G: 255, B: 255, A: 255}, at(marked, 2*200, 2*196), "one place has no number")
	two := shown(Shot{Picture: white{}, Tree: tree, Marks: []screen.Rect{other, box}})
	require.Equal(t, markInk, at(two, 2*195, 2*191), "several have")
	beside := shown(Shot{Picture: white{}, Tree: tree, Crop: screen.Rect{X: 900, Y: 10, W: 5, H: 5}})
	require.Equal(t, image.Rect(0, 0, 800, 1600), beside.Bounds(), "what lies beside the screen cuts nothing")
}

func TestAPictureOfFewColoursIsTheSameAsIndices(t *testing.T) {
	few := image.NewRGBA(image.Rect(3, 5, 103, 65)) // of a part of another
	for i := range few.Pix {
		few.Pix[i] = 0xff
	}
	for i := range 255 {
		few.SetRGBA(3+i%100, 5+i/100, color.RGBA{uint8(i), uint8(i / 2), 9, 0xff})
	}
	is := indexed(few)
	require.NotNil(t, is)
	body, err := encoded(few)
	require.NoError(t, err)
	back, err := png.Decode(bytes.NewReader(body))
	require.NoError(t, err)
	require.Equal(t, image.Rect(0, 0, 100, 60), back.Bounds())
	for y := range 60 {
		for x := range 100 {
			require.Equal(t, few.RGBAAt(3+x, 5+y), color.RGBAModel.Convert(back.At(x, y)))
		}
	}
	few.SetRGBA(50, 50, color.RGBA{1, 2, 3, 0xff})
	require.Nil(t, indexed(few), "one colour too many")
	few.SetRGBA(50, 50, color.RGBA{0, 0, 0, 0x80})
	require.Nil(t, indexed(few), "what can be seen through stays as it is")
}
