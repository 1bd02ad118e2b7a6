package sessions

import (
	"image"
	"image/color"
	"math"

	"github.com/fogleman/gg"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/opentype"

	kept "yamato/internal/store/sessions"
)

var ink = color.NRGBA{R: 0xe0, G: 0x42, B: 0x1f, A: 0xff}

var face = func() *opentype.Font {
	f, err := opentype.Parse(gobold.TTF)
	if err != nil {
		panic(err) // it is compiled in
	}
	return f
}()

// draw draws marks on a picture: arrows point at where they end, words stand where they begin.
func draw(img image.Image, marks []kept.Drawn) image.Image {
	dc := gg.NewContextForImage(img)
	w, h := float64(img.Bounds().Dx()), float64(img.Bounds().Dy())
	thick := math.Max(3, math.Min(w, h)/110)
	size := math.Max(14, math.Min(w, h)/22)
	if f, err := opentype.NewFace(face, &opentype.FaceOptions{Size: size, DPI: 72}); err == nil {
		dc.SetFontFace(f)
	}
	for _, m := range marks {
		x, y, tx, ty := m.X*w, m.Y*h, m.ToX*w, m.ToY*h
		dc.SetColor(ink)
		dc.SetLineWidth(thick)
		switch m.Kind {
		case "box":
			dc.DrawRectangle(math.Min(x, tx), math.Min(y, ty), math.Abs(tx-x), math.Abs(ty-y))
			dc.Stroke()
		case "arrow":
			at := math.Atan2(ty-y, tx-x)
			head := thick * 5
			dc.DrawLine(x, y, tx-math.Cos(at)*head/2, ty-math.Sin(at)*head/2)
			dc.Stroke()
			dc.MoveTo(tx, ty)
			dc.LineTo(tx-head*math.Cos(at-0.45), ty-head*math.Sin(at-0.45))
			dc.LineTo(tx-head*math.Cos(at+0.45), ty-head*math.Sin(at+0.45))
			dc.ClosePath()
			dc.Fill()
		}
		if m.Text == "" {
			continue
		}
		tw, th := dc.MeasureString(m.Text)
		px, py := math.Max(0, math.Min(x, w-tw-12)), math.Max(0, math.Min(y-th-10, h-th-10))
		if m.Kind == "words" {
			py = math.Max(0, math.Min(y, h-th-10))
		}
		dc.DrawRoundedRectangle(px, py, tw+12, th+10, 4)
		dc.Fill()
		dc.SetColor(color.White)
		dc.DrawStringAnchored(m.Text, px+6, py+5+th/2, 0, 0.35)
	}
	return dc.Image()
}
