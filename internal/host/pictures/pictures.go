// Package pictures draws pictures of screens as they are kept: whole or cut, with what matters framed; many alike once; a
// film of them.
package pictures

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"strconv"

	"github.com/fogleman/gg"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/opentype"

	"encoding/binary"
	"time"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// Drawn gives a picture as a PNG.
func Drawn(p device.Picture) ([]byte, error) {
	img, err := p.Image()
	if err != nil {
		return nil, err
	}
	return encoded(img)
}

func encoded(img image.Image) ([]byte, error) {
	var out bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	if few := indexed(img); few != nil {
		img = few
	}
	err := encoder.Encode(&out, img)
	return out.Bytes(), err
}

// indexed gives an opaque picture of at most 256 colours as indices into a list of them, as most pictures of screens can
// be: the same to the last pixel, and a quarter of the work and of the bytes. It gives nil for one of more colours.
func indexed(img image.Image) *image.Paletted {
	from, ok := img.(*image.RGBA)
	if !ok {
		return nil
	}
	b := from.Bounds()
	to := image.NewPaletted(image.Rect(0, 0, b.Dx(), b.Dy()), make(color.Palette, 0, 256))
	known := make(map[uint32]uint8, 256)
	var last uint32 // 0 is no colour: it is not opaque
	var index uint8
	for y := range b.Dy() {
		row := from.Pix[from.PixOffset(b.Min.X, b.Min.Y+y):]
		out := to.Pix[y*to.Stride:][:b.Dx()]
		for x := range out {
			p := binary.LittleEndian.Uint32(row[4*x:])
			if p == last {
				out[x] = index
				continue
			}
			if p>>24 != 0xff {
				return nil
			}
			if index, ok = known[p]; !ok {
				if len(known) == 256 {
					return nil
				}
				index = uint8(len(known))
				known[p] = index
				to.Palette = append(to.Palette, color.RGBA{uint8(p), uint8(p >> 8), uint8(p >> 16), 0xff})
			}
			last, out[x] = p, index
		}
	}
	return to
}

// Shot is a picture with what matters of it.
type Shot struct {
	At      time.Duration // since the case began
	Name    string
	Picture device.Picture
	Tree    *screen.Tree
	Marks   []screen.Rect
	Crop    screen.Rect // empty for the whole screen
}

// PNG gives a shot as it is kept: with frames around the marked places, numbered in the
// order given where there are several, and cut to its crop unless that is empty.
func (s Shot) PNG() ([]byte, error) {
	img, err := s.Picture.Image()
	if err != nil {
		return nil, err
	}
	scale := 1.0 // pixels of the picture for each of the tree's
	if s.Tree != nil && s.Tree.Width > 0 {
		scale = float64(img.Bounds().Dx()) / s.Tree.Width
	}
	if len(s.Marks) > 0 {
		img = marked(img, scale, s.Marks)
	}
	if !s.Crop.Empty() {
		img = cropped(img, scale, s.Crop)
	}
	return encoded(img)
}

// cropped cuts a picture to a part of the screen.
func cropped(img image.Image, scale float64, to screen.Rect) image.Image {
	b := img.Bounds()
	cut := image.Rect(int(to.X*scale), int(to.Y*scale), int(math.Ceil((to.X+to.W)*scale)),
		int(math.Ceil((to.Y+to.H)*scale))).Add(b.Min).Intersect(b)
	if cut.Empty() { // it lies beside the picture
		return img
	}
	part := image.NewRGBA(image.Rect(0, 0, cut.Dx(), cut.Dy()))
	draw.Draw(part, part.Bounds(), img, cut.Min, draw.Src)
	return part
}

var markInk = color.NRGBA{R: 0xe0, G: 0x42, B: 0x1f, A: 0xff}

// marked frames places of the screen on a picture.
func marked(img image.Image, scale float64, marks []screen.Rect) image.Image {
	dc := gg.NewContextForImage(img)
	dc.Scale(scale, scale)
	if face, err := opentype.NewFace(markFont, &opentype.FaceOptions{Size: 11 * scale, DPI: 72}); err == nil {
		dc.SetFontFace(face)
	}
	for i, m := range marks {
		dc.SetColor(markInk)
		dc.SetLineWidth(2.5 * scale)
		x, y, w, h := m.X-3, m.Y-3, m.W+6, m.H+6
		dc.DrawRoundedRectangle(x+1.25, y+1.25, w-2.5, h-2.5, 4)
		dc.Stroke()
		if len(marks) == 1 {
			continue
		}
		tx, ty := max(0, x-4), max(0, y-8)
		dc.DrawRoundedRectangle(tx, ty, 18, 16, 4)
		dc.Fill()
		dc.SetColor(color.White)
		dc.Push()
		dc.Identity()
		dc.DrawStringAnchored(strconv.Itoa(i+1), (tx+9)*scale, (ty+7.5)*scale, 0.5, 0.35)
		dc.Pop()
	}
	return dc.Image()
}

var markFont = func() *opentype.Font {
	f, err := opentype.Parse(gobold.TTF)
	if err != nil {
		panic(err) // it is compiled in
	}
	return f
}()
