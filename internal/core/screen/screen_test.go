package screen

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

func node(role, id, text string, at Rect, kids ...*Node) *Node {
	return &Node{Role: role, ID: id, Text: text, Bounds: at, Visible: at, Children: kids}
}

// order is a screen with two lists, a button made of words, and a hidden row.
func order() *Tree {
	hidden := node("listitem", "", "Haruka", Rect{0, 900, 100, 20})
	hidden.Visible = Rect{}
	button := node("button", "pay", "", Rect{0, 300, 100, 40}, node("", "", "Pay  now", Rect{10, 310, 50, 20}))
	button.Name = "Pay now"
	return &Tree{Width: 400, Height: 800, Root: node("application", "", "", Rect{0, 0, 400, 800},
		node("list", "left", "", Rect{0, 0, 100, 100}, node("listitem", "", "Tobi", Rect{0, 40, 100, 20}), node("listitem", "", "Sora", Rect{0, 10, 100, 20}), hidden),
		node("list", "right", "", Rect{200, 0, 100, 100}, node("listitem", "", "Sora", Rect{200, 10, 100, 20})),
		button,
	)}
}

func TestLocatorsFind(t *testing.T) {
	left := Locator{ID: "left"}
	for _, c := range []struct {
		locator Locator
		written string
		finds   []Rect
	}{
		{Locator{ID: "pay"}, "#pay", []Rect{{0, 300, 100, 40}}},
		{Locator{Label: Match{Text: "Pay now"}}, `"Pay now"`, []Rect{{0, 300, 100, 40}}}, // the button, not the words on it
		{Locator{Role: "button", Called: Match{Pattern: regexp.MustCompile(`(?i)^pay`)}}, "button called /(?i)^pay/", []Rect{{0, 300, 100, 40}}},
		{Locator{Label: Match{Text: "Sora"}}, `"Sora"`, []Rect{{0, 10, 100, 20}, {200, 10, 100, 20}}},
		{Locator{Label: Match{Text: "Sora"}, In: &left}, `"Sora" in #left`, []Rect{{0, 10, 100, 20}}},
		{Locator{Role: "listitem", In: &left, Ordinal: 1}, "1st listitem in #left", []Rect{{0, 10, 100, 20}}}, // by place, not by order in the tree
		{Locator{Role: "listitem", In: &left, Ordinal: Last}, "last listitem in #left", []Rect{{0, 900, 100, 20}}},
		{Locator{Role: "listitem", Ordinal: 9}, "9th listitem", nil},
		{Locator{ID: "nothing"}, "#nothing", nil},
	} {
		var at []Rect
		for _, n := range c.locator.Find(order()) {
			at = append(at, n.Bounds)
		}
		require.Equal(t, c.finds, at, c.written)
		require.Equal(t, c.written, c.locator.String())
	}
	require.Len(t, Shown(Locator{Role: "listitem"}.Find(order())), 3, "what is scrolled away cannot be seen")
}

func TestATouchMeetsWhatIsPaintedLast(t *testing.T) {
	tree := order()
	pay := Locator{ID: "pay"}.Find(tree)[0]
	require.Nil(t, tree.Obstacle(pay), "the words on a button do not cover it")
	dialog := node("dialog", "", "", Rect{0, 200, 400, 400})
	tree.Root.Children = append(tree.Root.Children, dialog)
	require.Same(t, dialog, tree.Obstacle(pay))
}

func TestNearestSuggestsWhatWasMeant(t *testing.T) {
	require.Equal(t, "pay", Locator{ID: "pya"}.Nearest(order(), 3)[0].ID)
	require.Equal(t, "Sora", Locator{Label: Match{Text: "Sorra"}}.Nearest(order(), 1)[0].Text)
	require.Empty(t, Locator{Label: Match{Text: "something else entirely"}}.Nearest(order(), 3))
}

func TestNumbersAreReadInTheLanguageOfTheDevice(t *testing.T) {
	for _, c := range []struct {
		text, language string
		want           float64
		ok             bool
	}{
		{"€12.60", "en-GB", 12.6, true},
		{"12,60 €", "de-DE", 12.6, true},
		{"1.234,50 €", "de-DE", 1234.5, true},
		{"£1,234.50", "en-GB", 1234.5, true},
		{"1\u00a0234,5", "pt-PT", 1234.5, true},
		{"−3 °C", "en-GB", -3, true},
		{"Total: 7", "en-GB", 7, true},
		{"3 of 5", "en-GB", 0, false},
		{"2026-11", "en-GB", 0, false},
		{"none", "en-GB", 0, false},
		{"3.", "en-GB", 3, true},
		{"", "de-DE", 0, false},
	} {
		got, ok := Number(c.text, c.language)
		require.Equal(t, c.ok, ok, "%q in %s", c.text, c.language)
		if ok {
			require.InDelta(t, c.want, got, 1e-9, "%q in %s", c.text, c.language)
		}
	}
}
