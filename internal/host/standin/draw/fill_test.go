package draw

import (
	"image"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/screen"
)

// What is filled by rectangles of whole pixels is what filling every pixel by its coverage gives.
func TestWhatIsFilledQuicklyIsTheSamePicture(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		scale := rapid.SampledFrom([]float64{1, 1.5, 2, 2.75}).Draw(t, "scale")
		quick, slow := newCanvas(60, 80, scale), newCanvas(60, 80, scale)
		for range rapid.IntRange(1, 4).Draw(t, "shapes") {
			some := rapid.Float64Range(-20, 90)
			r := screen.Rect{X: some.Draw(t, "x"), Y: some.Draw(t, "y"), W: some.Draw(t, "w"), H: some.Draw(t, "h")}
			round := rapid.SampledFrom([]float64{0, 4, 30}).Draw(t, "round")
			ink := Hex(rapid.SampledFrom([]string{"#1c6dd0", "#ffffff", "#10203080"}).Draw(t, "ink"))
			quick.fill(r, round, ink)
			if round == 0 { // the package draws what lies beside the picture onto its edge
				r = r.Intersect(screen.Rect{W: 60, H: 80})
			}
			if r.Empty() {
				continue
			}
			slow.dc.SetColor(ink.NRGBA)
			slow.shape(r, round)
			slow.dc.Fill()
		}
		a, b := quick.dc.Image().(*image.RGBA), slow.dc.Image().(*image.RGBA)
		for i := range a.Pix { // what is half seen through is rounded otherwise, a little at each layer
			if d := int(a.Pix[i]) - int(b.Pix[i]); d < -4 || d > 4 {
				require.Equal(t, b.Pix[i], a.Pix[i], "at %d", i)
			}
		}
	})
}
