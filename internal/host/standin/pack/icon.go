package pack

import (
	"bytes"
	"hash/fnv"
	"image/color"
	"image/png"
	"strings"

	"github.com/fogleman/gg"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/opentype"
)

// icon is the app's own, or its initial on a ground that its id gives.
func (a App) icon(side int) ([]byte, error) {
	if a.Icon != nil {
		return a.Icon(side)
	}
	h := fnv.New32a()
	_, _ = h.Write([]byte(a.ID))
	grounds := []color.Color{color.RGBA{0x2c, 0x5c, 0x73, 255}, color.RGBA{0x5d, 0x4a, 0x7a, 255},
		color.RGBA{0x6b, 0x5a, 0x2e, 255}, color.RGBA{0x2f, 0x66, 0x4d, 255}}
	dc := gg.NewContext(side, side)
	dc.SetColor(grounds[h.Sum32()%uint32(len(grounds))])
	dc.Clear()
	f, err := opentype.Parse(gobold.TTF)
	if err != nil {
		return nil, err
	}
	face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: float64(side) * 0.55, DPI: 72})
	if err != nil {
		return nil, err
	}
	dc.SetFontFace(face)
	dc.SetColor(color.White)
	initial := "?"
	if r := []rune(strings.TrimSpace(a.Name)); len(r) > 0 {
		initial = strings.ToUpper(string(r[:1]))
	}
	dc.DrawStringAnchored(initial, float64(side)/2, float64(side)/2, 0.5, 0.36)
	var out bytes.Buffer
	err = png.Encode(&out, dc.Image())
	return out.Bytes(), err
}
