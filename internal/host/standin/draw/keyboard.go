package draw

import (
	"yamato/internal/core/screen"
)

// The keyboard that a system shows while somebody enters text: it covers the lower part of the
// screen. It is one element of the tree; its keys are drawn, and touched, by where they are.

// The keys that are no characters (W3C WebDriver, 17.4.2).
const (
	keyBackspace = '\uE003'
	keyEnter     = '\uE007'
)

var keyRows = [][]rune{[]rune("1234567890"), []rune("qwertyuiop"), []rune("asdfghjkl"),
	append([]rune("zxcvbnm"), '.', keyBackspace), {'@', ' ', keyEnter}}

// KeyboardID is the id of the keyboard's element.
const KeyboardID = "system-keyboard"

// Keyboard is the keyboard's element, and where it is on a screen of c's.
func (c Chrome) Keyboard(dark bool) (*Element, screen.Rect) {
	h := min(264, c.Height*0.5)
	ground, key, ink := Hex("#d3d8dc"), Hex("#fdfdfd"), plainInk
	if dark {
		ground, key, ink = Hex("#1b242a"), Hex("#3a474f"), Hex("#eef2f3")
	}
	return &Element{T: "keyboard", ID: KeyboardID, Role: "group", Name: "Keyboard", Ground: ground, Line: key, Ink: ink,
		Size: 15}, screen.Rect{Y: c.Height - h, W: c.Width, H: h}
}

// eachKey gives the keys and their places in r.
func eachKey(r screen.Rect, visit func(key rune, at screen.Rect) bool) {
	const gap = 4
	h := (r.H - gap) / float64(len(keyRows))
	for i, row := range keyRows {
		share := float64(len(row))
		if i == len(keyRows)-1 {
			share += 5 // the space bar is wide
		}
		w := (r.W - gap) / max(share, 10)
		x := r.X + gap + max(0, 10-share)*w/2
		for _, k := range row {
			wide := w
			if k == ' ' {
				wide = 6 * w
			}
			if !visit(k, screen.Rect{X: x, Y: r.Y + gap + float64(i)*h, W: wide - gap, H: h - gap}) {
				return
			}
			x += wide
		}
	}
}

// KeyAt gives the key of a keyboard at r that is touched at p, 0 for none.
func KeyAt(r screen.Rect, p screen.Point) (found rune) {
	eachKey(r, func(key rune, at screen.Rect) bool {
		if at.Contains(p) {
			found = key
		}
		return found == 0
	})
	return found
}

func (c *canvas) keyboard(e *Element, r screen.Rect) {
	eachKey(r, func(key rune, at screen.Rect) bool {
		c.fill(at, 5, e.Line)
		label := string(key)
		switch key {
		case keyBackspace:
			label = "←"
		case keyEnter:
			label = "Done"
		}
		size := min(17, at.H*0.5)
		if key == keyEnter {
			size = min(12, at.H*0.4)
		}
		w := faceOf("regular").width(label, size)
		c.text(label, at.X+(at.W-w)/2, at.Y+(at.H-size*lineHeight)/2, size, "regular", e.Ink)
		return true
	})
}
