package screen

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// desk is a form: two labels, two fields beside them, a note that overlaps, and a cut-out.
func desk() *Tree {
	cover := node("status", "cover", "On time", Rect{150, 95, 60, 20})
	cover.Opaque = true
	return &Tree{Width: 400, Height: 800, Cutouts: Cutouts("bar", 400, 800), Root: node("application",
		"", "", Rect{0, 0, 400, 800},
		node("text", "under", "09:41", Rect{180, 15, 40, 14}),
		node("text", "", "From", Rect{10, 60, 80, 20}), node("textbox", "from", "", Rect{100, 60, 120, 20}),
		node("text", "", "To", Rect{10, 100, 80, 20}), node("textbox", "to", "", Rect{100, 100, 120, 20}),
		node("button", "go", "Go", Rect{100, 140, 60, 30}), cover,
	)}
}

func TestElementsAreFoundByWhereTheyLie(t *testing.T) {
	label := func(text string) *Locator { return &Locator{Label: Match{Text: text}} }
	for written, c := range map[string]struct {
		locator Locator
		finds   []string
	}{
		`textbox right of "From"`: {Locator{Role: "textbox", Relation: RightOf, Of: label("From")},
			[]string{"from"}},
		`textbox near "To"`: {Locator{Role: "textbox", Relation: Near, Of: label("To")}, []string{"to"}},
		`button below #from`: {Locator{Role: "button", Relation: Below, Of: &Locator{ID: "from"}},
			[]string{"go"}},
		`textbox above #go`: {Locator{Role: "textbox", Relation: Above, Of: &Locator{ID: "go"}},
			[]string{"from", "to"}},
		`last textbox above #go`: {Locator{Role: "textbox", Ordinal: Last, Relation: Above,
			Of: &Locator{ID: "go"}}, []string{"to"}},
		`textbox left of #from`: {Locator{Role: "textbox", Relation: LeftOf, Of: &Locator{ID: "from"}}, nil},
		`textbox near #nowhere`: {Locator{Role: "textbox", Relation: Near, Of: &Locator{ID: "nowhere"}},
			nil},
		`button below textbox near "From"`: {Locator{Role: "button", Relation: Below, Of: &Locator{Role: "textbox",
			Relation: Near, Of: label("From")}}, []string{"go"}},
	} {
		require.Equal(t, written, c.locator.String())
		var ids []string
		for _, n := range c.locator.Find(desk()) {
			ids = append(ids, n.ID)
		}
		require.Equal(t, c.finds, ids, written)
	}
}

func TestWhatCannotBeSeenWholeSaysWhy(t *testing.T) {
	tree := desk()
	one := func(id string) *Node { return Locator{ID: id}.Find(tree)[0] }
	why, _ := tree.Whole(one("from"))
	require.Empty(t, why)
	why, cover := tree.Whole(one("to"))
	require.Contains(t, why, "covered by")
	require.Equal(t, "cover", cover.ID)
	one("from").Partly = true // as a browser tells, which knows what no tree has
	why, _ = tree.Whole(one("from"))
	require.Equal(t, "a part of it is covered", why)
	one("go").Visible.H = 12
	why, _ = tree.Whole(one("go"))
	require.Equal(t, "a part of it is out of sight: 60 by 12 of 60 by 30 can be seen", why)
	require.True(t, tree.InCutout(one("under")))
	require.False(t, tree.InCutout(one("from")))
	across := Cutouts("bar", 800, 400)[0]
	require.Less(t, across.X+across.W, 60.0, "held across, it is at the left")
	require.InDelta(t, 200, across.Y+across.H/2, 1)
}

func TestXPathSelectsByWhatElementsSay(t *testing.T) {
	for source, finds := range map[string]int{
		`//textbox`:           2,
		`//textbox[@id='to']`: 1,
		`//*[@text='From']/following-sibling::textbox[1]`: 1,
		`/application/*[last()]`:                          1,
		`//button | //textbox`:                            3,
		`//*[contains(., 'time')]`:                        2, // and what it is in
		`//table`:                                         0,
		`//*[@disabled='true']`:                           0,
	} {
		x, err := NewXPath(source)
		require.NoError(t, err, source)
		found, err := x.Select(desk())
		require.NoError(t, err, source)
		require.Len(t, found, finds, source)
		if finds > 0 {
			require.NotEmpty(t, Locator{XPath: x}.Find(desk()), source)
		}
	}
	for source, why := range map[string]string{"count(//a)": "computes a value", "//a[": "", "": "",
		"//a[unheard(1)]":       "",
		strings.Repeat("(", 60): "too deep", strings.Repeat("/a", 600): "longer than"} {
		_, err := NewXPath(source)
		require.ErrorContains(t, err, why, source)
	}
}

// large has n elements with 60 letters each.
func large(n int) *Tree {
	root := node("application", "", "", Rect{0, 0, 400, 800})
	for i := range n {
		root.Children = append(root.Children, node("listitem", fmt.Sprintf("row-%d", i), strings.Repeat("departure ",
			6), Rect{0, float64(i), 400, 1}))
	}
	return &Tree{Width: 400, Height: 800, Root: root}
}

// An expression that would search for ever ends, and says so; none fails what runs it.
func TestHostileXPathEnds(t *testing.T) {
	tree := large(6000)
	for _, source := range []string{
		"//*[contains(concat(" + strings.TrimSuffix(strings.Repeat("/,", 400), ",") + "), 'zzz')]",
		"//*[count(preceding::*[count(preceding::*) > 1]) > 5]",
		"//*[matches(/, '(a+)+$')]",
		"//*[string-length(translate(/, 'abcdefgh', 'ijklmnop')) = 1]",
		"//*[normalize-space(/) = normalize-space(..)]",
	} {
		x, err := NewXPath(source)
		require.NoError(t, err, source)
		_, err = x.Select(tree)
		require.ErrorIs(t, err, errXPathLong, source)
	}
}
