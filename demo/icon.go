package demo

import (
	"bytes"
	"image/png"
	"math"

	"github.com/fogleman/gg"
)

// icon draws the sample app's icon: a ferry's bow over two waves.
func icon(side int) ([]byte, error) {
	c := gg.NewContext(side, side)
	s := float64(side)
	c.SetHexColor("#14536b")
	c.DrawRoundedRectangle(0, 0, s, s, s*0.22)
	c.Fill()
	c.SetHexColor("#f3f7f6")
	c.MoveTo(s*0.2, s*0.48)
	c.LineTo(s*0.8, s*0.48)
	c.LineTo(s*0.68, s*0.66)
	c.LineTo(s*0.3, s*0.66)
	c.ClosePath()
	c.Fill()
	c.DrawRectangle(s*0.38, s*0.28, s*0.2, s*0.16)
	c.Fill()
	c.SetLineWidth(s * 0.045)
	for i, ink := range []string{"#e9a13b", "#7fb2bd"} {
		c.SetHexColor(ink)
		for x := 0.14; x <= 0.86; x += 0.01 {
			c.LineTo(s*x, s*(0.74+0.1*float64(i))+s*0.025*math.Sin(x*26+float64(i)))
		}
		c.Stroke()
	}
	var b bytes.Buffer
	err := png.Encode(&b, c.Image())
	return b.Bytes(), err
}
