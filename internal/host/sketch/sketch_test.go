package sketch

import (
	"image/color"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
)

func TestADialogIsDrawnWhereTheTreeSaysThatItIs(t *testing.T) {
	box := screen.Rect{X: 20, Y: 40, W: 160, H: 100}
	tree := &screen.Tree{Root: &screen.Node{Children: []*screen.Node{{Role: "alertdialog", Visible: box,
		Children: []*screen.Node{
			{Role: "button", Text: "OK", Visible: screen.Rect{X: 110, Y: 100, W: 60, H: 30}}}}}}}
	img, err := Screen{Width: 200, Height: 200, Dialog: tree}.Image()
	require.NoError(t, err)
	require.Equal(t, 200, img.Bounds().Dx())
	paper := color.NRGBA{0xf7, 0xf4, 0xec, 0xff}
	require.Equal(t, paper, img.At(22, 42))
	require.NotEqual(t, paper, img.At(10, 42), "beside it is the screen")
	require.NotEqual(t, paper, img.At(112, 102), "the button is told from it")
	ink := 0
	for x := 110; x < 170; x++ {
		for y := 100; y < 130; y++ {
			if r, _, _, _ := img.At(x, y).RGBA(); r > 0xa000 {
				ink++
			}
		}
	}
	require.Positive(t, ink, "and says what it does")
	_, err = Screen{Width: 10, Height: 10}.Image()
	require.NoError(t, err)
}
