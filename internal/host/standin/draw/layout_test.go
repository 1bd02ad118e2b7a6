package draw

import (
	"fmt"
	"image/color"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/screen"
)

// laid lays a screen out from its JSON and gives its elements by id.
func laid(t *testing.T, text string) (*Scene, map[string]*screen.Node) {
	t.Helper()
	e, err := ParseScreen([]byte(text))
	require.NoError(t, err)
	s := NewScene(400, 800)
	Layout(e, screen.Rect{W: 400, H: 800}, s, "")
	byID := map[string]*screen.Node{}
	s.Tree.Walk(func(n *screen.Node, _ int) bool { byID[n.ID] = n; return true })
	return s, byID
}

func TestColumnsAndRowsShareOutTheirSpace(t *testing.T) {
	_, at := laid(t, `{"t":"column","pad":10,"gap":5,"kids":[
		{"t":"space","id":"head","h":50},
		{"t":"row","id":"body","grow":1,"gap":10,"kids":[{"t":"space","id":"left","w":100},{"t":"space","id":"middle","grow":1},{"t":"space","id":"right","grow":2}]},
		{"t":"space","id":"foot","h":40}]}`)
	require.Equal(t, screen.Rect{X: 10, Y: 10, W: 380, H: 50}, at["head"].Bounds)
	require.Equal(t, screen.Rect{X: 10, Y: 65, W: 380, H: 680}, at["body"].Bounds)
	require.Equal(t, screen.Rect{X: 10, Y: 750, W: 380, H: 40}, at["foot"].Bounds)
	require.InDelta(t, 260.0/3, at["middle"].Bounds.W, 0.01)
	require.InDelta(t, 2*260.0/3, at["right"].Bounds.W, 0.01)
	require.Equal(t, 680.0, at["left"].Bounds.H, "what is not aligned is stretched")
}

func TestAlignAndSpread(t *testing.T) {
	for _, c := range []struct {
		align, spread string
		x, y          float64
	}{{"start", "start", 0, 0}, {"center", "center", 150, 350}, {"end", "end", 300, 700}} {
		_, at := laid(t, fmt.Sprintf(`{"t":"column","align":%q,"spread":%q,"kids":[{"t":"space","id":"x","w":100,"h":100}]}`, c.align, c.spread))
		require.Equal(t, screen.Rect{X: c.x, Y: c.y, W: 100, H: 100}, at["x"].Bounds)
	}
	_, at := laid(t, `{"t":"row","spread":"between","kids":[{"t":"space","id":"a","w":50},{"t":"space","id":"b","w":50},{"t":"space","id":"c","w":50}]}`)
	require.Equal(t, []float64{0, 175, 350}, []float64{at["a"].Bounds.X, at["b"].Bounds.X, at["c"].Bounds.X})
}

func TestWhatIsScrolledAwayIsThereButNotShown(t *testing.T) {
	var rows []string
	for i := range 30 {
		rows = append(rows, fmt.Sprintf(`{"t":"space","id":"r%d","h":50}`, i))
	}
	_, at := laid(t, `{"t":"column","kids":[{"t":"scroll","id":"list","grow":1,"kids":[`+strings.Join(rows,
		",")+`]},{"t":"space","id":"foot","h":100}]}`)
	require.Equal(t, screen.Rect{W: 400, H: 700}, at["list"].Bounds)
	require.True(t, at["r13"].OnScreen())
	require.False(t, at["r14"].OnScreen())
	require.Equal(t, 700.0, at["r14"].Bounds.Y, "its place is below, under what does not scroll")
	require.Equal(t, 700.0, at["foot"].Bounds.Y)
}

func TestTextBreaksWhereItsFontSaysSo(t *testing.T) {
	face := faces["regular"]
	lines := face.wrap("Timetable of the Sorane Line", 15, 100)
	require.Equal(t, "Timetable of the Sorane Line", strings.Join(lines, " "))
	require.Greater(t, len(lines), 1)
	for _, l := range lines {
		require.LessOrEqual(t, face.width(l, 15), 100.01)
	}
	require.Greater(t, len(face.wrap("Donaudampfschifffahrt", 15, 50)), 1, "a word that is wider than a line is cut")
	require.Greater(t, faces["bold"].width("Total", 15), face.width("Total", 15))
	_, at := laid(t, `{"t":"column","kids":[{"t":"text","id":"one","text":"`+strings.Repeat("many words ",
		60)+`","lines":2,"size":10}]}`)
	require.InDelta(t, 2*10*lineHeight, at["one"].Bounds.H, 0.01)
}

func TestWrappingLosesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[a-zäß]{1,12}( [a-zäß]{1,12}){0,10}`).Draw(t, "text")
		width := rapid.Float64Range(1, 200).Draw(t, "width")
		lines := faces["regular"].wrap(text, 15, width)
		require.Equal(t, strings.ReplaceAll(text, " ", ""), strings.ReplaceAll(strings.Join(lines, ""), " ", ""))
	})
}

func TestScreensThatAreNoneAreRefused(t *testing.T) {
	deep := strings.Repeat(`{"t":"column","kids":[`, 80) + strings.Repeat(`]}`, 80)
	for text, says := range map[string]string{
		`[]`:                           "no screen",
		deep:                           "nested more than 64 deep",
		`{"t":"column","kids":[null]}`: "an empty element",
		`{"t":"text","ground":"red"}`:  "a colour is written #rrggbb",
		`{"t":"text","pad":[1,2,3]}`:   "pad is a number",
		`{"t":"text","text":"` + strings.Repeat("x", 20_001) + `"}`: "more than 20000 characters",
	} {
		_, err := ParseScreen([]byte(text))
		require.ErrorContains(t, err, says)
	}
	e, err := ParseScreen([]byte(`{"t":"text","size":1e9,"w":-5,"face":"comic","text":"x"}`))
	require.NoError(t, err, "sizes are brought within bounds")
	require.Equal(t, 200.0, e.Size)
	require.Zero(t, e.W)
	require.NotNil(t, measure(e, 100))
}

func TestNamesComeFromContentWhereTheRoleSaysSo(t *testing.T) {
	_, at := laid(t, `{"t":"column","kids":[
		{"t":"button","id":"buy","kids":[{"t":"icon","icon":"ticket"},{"t":"text","text":"Buy  now"}]},
		{"t":"row","id":"row","role":"listitem","kids":[{"t":"text","text":"Sora"}]},
		{"t":"field","id":"island","hint":"All islands"}]}`)
	require.Equal(t, "Buy now", at["buy"].Name)
	require.Empty(t, at["row"].Name, "a list item is not named by what is in it (WAI-ARIA)")
	require.Equal(t, []string{"textbox", "All islands", ""}, []string{at["island"].Role, at["island"].Name,
		at["island"].Text})
}

func TestAPictureHasTheScreensSizeAndItsColours(t *testing.T) {
	s, _ := laid(t, `{"t":"column","ground":"#ffffff","kids":[{"t":"space","id":"box","w":100,"h":100,"ground":"#0000ff"}]}`)
	p := Picture{Scene: s, Look: Chrome{Platform: "android", Cutout: "none", Width: 400, Height: 800,
		Ground: Hex("#ffffff"), Ink: plainInk}, Scale: 2}
	draw := func() (w, h int, at func(x, y int) color.NRGBA) {
		img, err := p.Image()
		require.NoError(t, err)
		return img.Bounds().Dx(), img.Bounds().Dy(), func(x, y int) color.NRGBA {
			return color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA)
		}
	}
	w, h, pixel := draw()
	require.Equal(t, []int{800, 1600}, []int{w, h})
	require.Equal(t, color.NRGBA{0, 0, 255, 255}, pixel(100, 150))
	require.Equal(t, color.NRGBA{255, 255, 255, 255}, pixel(300, 300))
}

func TestAFieldKeepsItsKeyFromScreenToScreen(t *testing.T) {
	text := `{"t":"column","kids":[{"t":"field","id":"a","hint":"x"},{"t":"row","kids":[{"t":"field","hint":"y","grow":1}]}]}`
	s, _ := laid(t, text)
	require.Len(t, s.Fields, 2)
	for _, f := range s.Fields {
		key := s.FocusOf(f)
		require.NotEmpty(t, key)
		e, err := ParseScreen([]byte(text))
		require.NoError(t, err)
		again := NewScene(400, 800)
		Layout(e, screen.Rect{W: 400, H: 800}, again, key)
		focused := 0
		for _, n := range again.Fields {
			if n.Focused {
				focused++
				require.Equal(t, f.Bounds, n.Bounds)
			}
		}
		require.Equal(t, 1, focused)
	}
}

func TestTheStatusBarSuitsThePhone(t *testing.T) {
	require.Equal(t, 44.0, Chrome{Platform: "ios", Cutout: "bar", Height: 848}.top())
	require.Zero(t, Chrome{Platform: "ios", Cutout: "none", Height: 580}.bottom(), "a home button below the screen")
	require.Equal(t, screen.Rect{Y: 32, W: 408, H: 844}, Chrome{Platform: "android", Cutout: "hole", Width: 408,
		Height: 896}.Area())
	require.Equal(t, Hex("#ffffff"), BarInk(&Element{Ground: Hex("#14536b")}), "light on dark")
	require.Equal(t, plainInk, BarInk(&Element{Ground: Hex("#f3f7f6")}))
}
