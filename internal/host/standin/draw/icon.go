package draw

import (
	"math"

	"yamato/internal/core/screen"
)

// icons are drawn on a field of 24 by 24, in strokes of 2: a list of lines,
// each a list of points, closed where it ends as it began. Circles are three
// numbers.
var icons = map[string]struct {
	lines   [][]float64
	circles [][3]float64
}{
	"ferry": {lines: [][]float64{{3, 14, 21, 14, 18, 19, 6, 19, 3, 14}, {6, 14, 6, 9, 16, 9, 18, 14}, {11, 9, 11, 5}}},
	"clock": {circles: [][3]float64{{12, 12, 9}}, lines: [][]float64{{12, 7, 12, 12, 16, 14}}},
	"ticket": {lines: [][]float64{{3, 7, 21, 7, 21, 17, 3, 17, 3, 7}, {14, 7, 14, 9}, {14, 11, 14, 13},
		{14, 15, 14, 17}}},
	"back":  {lines: [][]float64{{15, 5, 8, 12, 15, 19}}},
	"next":  {lines: [][]float64{{9, 5, 16, 12, 9, 19}}},
	"check": {lines: [][]float64{{5, 12, 10, 17, 19, 7}}},
	"globe": {circles: [][3]float64{{12, 12, 9}}, lines: [][]float64{{3, 12, 21, 12}, {12, 3, 9, 8, 9, 16, 12, 21, 15,
		16, 15, 8, 12, 3}}},
	"swap":  {lines: [][]float64{{5, 9, 18, 9, 14, 5}, {19, 15, 6, 15, 10, 19}}},
	"plus":  {lines: [][]float64{{12, 5, 12, 19}, {5, 12, 19, 12}}},
	"minus": {lines: [][]float64{{5, 12, 19, 12}}},
	"wait": {lines: [][]float64{{7, 4, 17, 4}, {7, 20, 17, 20}, {8, 4, 8, 7, 16, 17, 16, 20},
		{16, 4, 16, 7, 8, 17, 8, 20}}},
	"drop": {lines: [][]float64{{12, 4, 17, 12, 16, 17, 12, 20, 8, 17, 7, 12, 12, 4}}},
	"bell": {lines: [][]float64{{6, 17, 18, 17, 16, 14, 16, 10, 14, 6, 10, 6, 8, 10, 8, 14, 6, 17},
		{11, 20, 13, 20}}},
	"wallet": {lines: [][]float64{{4, 7, 20, 7, 20, 19, 4, 19, 4, 7}, {4, 7, 16, 4, 16, 7},
		{20, 11, 15, 11, 15, 15, 20, 15}}},
	"map": {lines: [][]float64{{4, 6, 9, 4, 15, 6, 20, 4, 20, 18, 15, 20, 9, 18, 4, 20, 4, 6}, {9, 4, 9, 18},
		{15, 6, 15, 20}}},
	"place": {circles: [][3]float64{{12, 10, 2.5}}, lines: [][]float64{{12, 21, 6, 12, 6, 8, 9, 4, 12, 3, 15, 4, 18, 8,
		18, 12, 12, 21}}},
	"square":  {lines: [][]float64{{5, 5, 19, 5, 19, 19, 5, 19, 5, 5}}},
	"unknown": {circles: [][3]float64{{12, 12, 8}}},
}

func (c *canvas) icon(name string, r screen.Rect, ink tint) {
	shape, ok := icons[name]
	if !ok {
		shape = icons["unknown"]
	}
	k := math.Min(r.W, r.H) / 24
	c.dc.SetColor(ink.NRGBA)
	c.dc.SetLineWidth(2 * k * c.scale)
	c.dc.SetLineCapRound()
	c.dc.SetLineJoinRound()
	for _, line := range shape.lines {
		for i := 0; i+1 < len(line); i += 2 {
			x, y := r.X+line[i]*k, r.Y+line[i+1]*k
			if i == 0 {
				c.dc.MoveTo(x, y)
			} else {
				c.dc.LineTo(x, y)
			}
		}
		c.dc.Stroke()
	}
	for _, o := range shape.circles {
		c.dc.DrawCircle(r.X+o[0]*k, r.Y+o[1]*k, o[2]*k)
		c.dc.Stroke()
	}
}
