// Package sketch draws what a handset shows and its browser does not draw.
package sketch

import (
	"image"
	"image/color"
	"image/draw"

	"yamato/internal/core/screen"
)

// Screen is a screen that the browser does not draw: nothing in front, or a dialog of its own.
type Screen struct {
	Width, Height int
	Dialog        *screen.Tree // nil for none
}

// Image draws it.
func (b Screen) Image() (image.Image, error) {
	img := image.NewNRGBA(image.Rect(0, 0, b.Width, b.Height))
	fill := func(r screen.Rect, c color.Color) {
		draw.Draw(img, image.Rect(int(r.X), int(r.Y), int(r.X+r.W), int(r.Y+r.H)), image.NewUniform(c), image.Point{}, draw.Src)
	}
	fill(screen.Rect{W: float64(b.Width), H: float64(b.Height)}, color.NRGBA{0x2c, 0x5c, 0x73, 0xff})
	b.Dialog.Walk(func(n *screen.Node, depth int) bool {
		switch {
		case depth == 0:
		case n.Role == "alertdialog":
			fill(n.Visible, color.NRGBA{0xf7, 0xf4, 0xec, 0xff})
		case n.Role == "button":
			fill(n.Visible, color.NRGBA{0xd9, 0xd4, 0xc4, 0xff})
		}
		write(img, n)
		return true
	})
	return img, nil
}
