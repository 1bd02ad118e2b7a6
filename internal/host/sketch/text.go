package sketch

import (
	"image"
	"image/color"
	"image/draw"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"

	"yamato/internal/core/screen"
)

// face is the font of what the handset draws itself.
var face = sync.OnceValue(func() font.Face {
	parsed, err := opentype.Parse(goregular.TTF)
	if err != nil {
		panic(err) // it comes with the program
	}
	f, err := opentype.NewFace(parsed, &opentype.FaceOptions{Size: 14, DPI: 72})
	if err != nil {
		panic(err)
	}
	return f
})

var drawing sync.Mutex // a face is for one at a time

// write draws an element's text within its bounds: a button's in the middle, all else from the top.
func write(img draw.Image, n *screen.Node) {
	text := n.Text
	if n.Role == "textbox" {
		text = n.Value
	}
	drawing.Lock()
	defer drawing.Unlock()
	d := font.Drawer{Dst: img, Src: image.NewUniform(color.NRGBA{0x24, 0x32, 0x3c, 0xff}), Face: face()}
	if n.Role == "button" {
		d.Src = image.NewUniform(buttonInk)
		x := n.Visible.X + max(6, (n.Visible.W-float64(d.MeasureString(text).Ceil()))/2)
		d.Dot = fixed.P(int(x), int(n.Visible.Y+n.Visible.H/2+5))
		d.DrawString(text)
		return
	}
	y, line := n.Visible.Y+18, ""
	flush := func() {
		if line != "" && y < n.Visible.Y+n.Visible.H+4 {
			d.Dot = fixed.P(int(n.Visible.X)+6, int(y))
			d.DrawString(line)
			y += 18
		}
		line = ""
	}
	for word := range strings.FieldsSeq(text) {
		if next := strings.TrimSpace(line + " " + word); d.MeasureString(next).Ceil() < int(n.Visible.W)-12 {
			line = next
			continue
		}
		flush()
		line = word
	}
	flush()
}
