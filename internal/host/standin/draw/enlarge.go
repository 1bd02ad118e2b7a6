package draw

// Enlarge has all texts of a screen be so many percent of their size, and gives it.
func Enlarge(e *Element, percent int) *Element {
	if percent == 100 || percent <= 0 {
		return e
	}
	e.Size = min(max(e.Size*float64(percent)/100, 4), 200)
	for _, k := range e.Kids {
		Enlarge(k, percent)
	}
	return e
}
