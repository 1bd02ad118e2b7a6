package draw

// Shape is an icon as lines and circles on a field of 24 by 24.
type Shape struct {
	Lines   [][]float64  `json:"lines,omitempty"`   // each a list of points: x, y, x, y …
	Circles [][3]float64 `json:"circles,omitempty"` // x, y, radius
}

// Shapes gives the icons that apps may show, by name.
func Shapes() map[string]Shape {
	out := map[string]Shape{}
	for name, i := range icons {
		out[name] = Shape{i.lines, i.circles}
	}
	return out
}
