package screen

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestSuggestionsBeginWithWhatLasts(t *testing.T) {
	tree := order()
	pay := Locator{ID: "pay"}.Find(tree)[0]
	list := Suggest(tree, pay)
	require.Equal(t, "#pay", list[0].String(), "an id outlives a wording")
	for _, l := range list {
		require.Equal(t, []*Node{pay}, l.Find(tree), l.String())
	}
}

func TestAnElementWithNothingOfItsOwnIsFoundWithinAnotherOrByOrder(t *testing.T) {
	item := func(y float64) *Node { return node("listitem", "", "Late", Rect{0, y, 100, 20}) }
	first, second, other := item(0), item(20), item(60)
	left := node("list", "left", "", Rect{0, 0, 100, 40}, first, second)
	right := node("list", "right", "", Rect{0, 60, 100, 20}, other)
	tree := &Tree{Root: node("application", "", "", Rect{0, 0, 100, 100}, left, right), Width: 100, Height: 100}
	require.Contains(t, Suggest(tree, other)[0].String(), `in #right`)
	require.Contains(t, Suggest(tree, second)[0].String(), "2nd")
}

// Whatever the tree, a suggestion finds its element and no other.
func TestASuggestionFindsItsElementAndNoOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all []*Node
		var grow func(depth int) *Node
		grow = func(depth int) *Node {
			n := &Node{
				Role: rapid.SampledFrom([]string{"", "button", "listitem", "list", "generic"}).Draw(t, "role"),
				ID:   rapid.SampledFrom([]string{"", "", "a", "b", "1x", "ü"}).Draw(t, "id"),
				Text: rapid.SampledFrom([]string{"", "Pay", "Late", `say "x"`, "{n}"}).Draw(t, "text"),
			}
			n.Bounds = Rect{float64(rapid.IntRange(0, 3).Draw(t, "x")), float64(rapid.IntRange(0, 9).Draw(t, "y")),
				10, 10}
			all = append(all, n)
			for range rapid.IntRange(0, 3-depth).Draw(t, "kids") {
				n.Children = append(n.Children, grow(depth+1))
			}
			return n
		}
		tree := &Tree{Root: grow(0), Width: 100, Height: 100}
		for _, n := range all {
			for _, l := range Suggest(tree, n) {
				if found := l.Find(tree); len(found) != 1 || found[0] != n {
					t.Fatalf("%s finds %d elements", l, len(found))
				}
			}
		}
	})
}

func BenchmarkSuggest(b *testing.B) {
	var items []*Node
	for i := range 500 {
		items = append(items, node("listitem", "", fmt.Sprint(i), Rect{0, float64(i), 100, 1}))
	}
	tree := &Tree{Root: node("application", "", "", Rect{0, 0, 100, 500}, items...), Width: 100, Height: 500}
	for b.Loop() {
		for _, n := range items {
			Suggest(tree, n)
		}
	}
}
