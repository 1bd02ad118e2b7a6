package draw

import (
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomedium"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// typeface is a font that texts are measured and drawn with.
type typeface struct {
	font *sfnt.Font
	unit float64

	mu       sync.Mutex
	buffer   sfnt.Buffer
	advances map[rune]float64 // in parts of the type size
}

var faces = map[string]*typeface{
	"regular": parseFace(goregular.TTF), "medium": parseFace(gomedium.TTF),
	"bold": parseFace(gobold.TTF), "mono": parseFace(gomono.TTF),
}

// faceOf gives a typeface by name, the regular one for names there are none of.
func faceOf(name string) *typeface {
	if f, ok := faces[name]; ok {
		return f
	}
	return faces["regular"]
}

func parseFace(data []byte) *typeface {
	f, err := opentype.Parse(data)
	if err != nil {
		panic(err) // the fonts are compiled in
	}
	return &typeface{font: f, unit: float64(f.UnitsPerEm()), advances: map[rune]float64{}}
}

// lineHeight is what a line takes, in parts of the type size.
const lineHeight = 1.35

// width is how wide a line of text is at a type size.
func (t *typeface) width(text string, size float64) float64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	var w float64
	for _, r := range text {
		w += t.advance(r)
	}
	return w * size
}

func (t *typeface) advance(r rune) float64 {
	if a, ok := t.advances[r]; ok {
		return a
	}
	a := 0.5
	if i, err := t.font.GlyphIndex(&t.buffer, r); err == nil {
		if f, err := t.font.GlyphAdvance(&t.buffer, i, fixed.I(int(t.unit)), font.HintingNone); err == nil {
			a = float64(f) / 64 / t.unit
		}
	}
	if len(t.advances) < 10_000 {
		t.advances[r] = a
	}
	return a
}

// wrap breaks text into lines no wider than width, at blanks, and within words that are
// wider than a line. Its cost is linear in the length of the text.
func (t *typeface) wrap(text string, size, width float64) []string {
	var lines []string
	blank := t.width(" ", size)
	for paragraph := range strings.SplitSeq(text, "\n") {
		from := len(lines)
		var line strings.Builder
		used := 0.0
		next := func() {
			lines, used = append(lines, line.String()), 0
			line.Reset()
		}
		for word := range strings.FieldsSeq(paragraph) {
			for word != "" {
				cut, w := t.fits(word, size, width)
				switch {
				case line.Len() > 0 && used+blank+w <= width+0.01 && cut == len(word):
					line.WriteString(" " + word)
					used, word = used+blank+w, ""
				case line.Len() > 0:
					next()
				case cut == len(word):
					line.WriteString(word)
					used, word = w, ""
				default:
					lines, word = append(lines, word[:cut]), word[cut:]
				}
			}
		}
		if line.Len() > 0 || len(lines) == from {
			next()
		}
	}
	return lines
}

// fits is how many bytes of word, at least one character, fit into width, and how wide
// they are.
func (t *typeface) fits(word string, size, width float64) (int, float64) {
	var w float64
	t.mu.Lock()
	defer t.mu.Unlock()
	for i, r := range word {
		a := t.advance(r) * size
		if w+a > width+0.01 && i > 0 {
			return i, w
		}
		w += a
	}
	return len(word), w
}
