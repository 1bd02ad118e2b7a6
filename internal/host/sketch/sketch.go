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
	fill(img, screen.Rect{W: float64(b.Width), H: float64(b.Height)}, color.NRGBA{0x2c, 0x5c, 0x73, 0xff})
	if b.Dialog != nil {
		dialog(img, b.Dialog.Root.Children...)
	}
	return img, nil
}

// Over is a dialog over what the browser has drawn.
type Over struct {
	Under  interface{ Image() (image.Image, error) }
	Dialog *screen.Node
}

// Image draws it, at one pixel a dp.
func (o Over) Image() (image.Image, error) {
	under, err := o.Under.Image()
	if err != nil {
		return nil, err
	}
	img := image.NewNRGBA(under.Bounds())
	draw.Draw(img, img.Bounds(), under, under.Bounds().Min, draw.Src)
	draw.Draw(img, img.Bounds(), image.NewUniform(color.NRGBA{0x0c, 0x1a, 0x22, 0xa6}), image.Point{}, draw.Over)
	dialog(img, o.Dialog)
	return img, nil
}

func fill(img draw.Image, r screen.Rect, c color.Color) {
	draw.Draw(img, image.Rect(int(r.X), int(r.Y), int(r.X+r.W), int(r.Y+r.H)), image.NewUniform(c), image.Point{},
		draw.Src)
}

var buttonGround, buttonInk = color.NRGBA{0x1d, 0x5a, 0x78, 0xff}, color.NRGBA{0xf7, 0xf4, 0xec, 0xff}

// dialog draws elements: boxes, buttons and what is written on them.
func dialog(img draw.Image, nodes ...*screen.Node) {
	for _, n := range nodes {
		switch n.Role {
		case "alertdialog", "listbox":
			fill(img, n.Visible, color.NRGBA{0xf7, 0xf4, 0xec, 0xff})
		case "button":
			fill(img, n.Visible, buttonGround)
		case "option":
			if n.Selected {
				fill(img, n.Visible, color.NRGBA{0xdf, 0xe7, 0xe6, 0xff})
			}
		}
		write(img, n)
		dialog(img, n.Children...)
	}
}
