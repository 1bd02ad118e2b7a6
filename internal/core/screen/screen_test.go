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
		node("list", "left", "", Rect{0, 0, 100, 100}, node("listitem", "", "Tobi", Rect{0, 40, 100, 20}),
			node("listitem", "", "Sora", Rect{0, 10, 100, 20}), hidden),
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
		// the button, not the words on it
		{Locator{Label: Match{Text: "Pay now"}}, `"Pay now"`, []Rect{{0, 300, 100, 40}}},
		{Locator{Role: "button", Called: Match{Pattern: regexp.MustCompile(`(?i)^pay`)}}, "button called /(?i)^pay/",
			[]Rect{{0, 300, 100, 40}}},
		{Locator{Label: Match{Text: "Sora"}}, `"Sora"`, []Rect{{0, 10, 100, 20}, {200, 10, 100, 20}}},
		{Locator{Label: Match{Text: "Sora"}, Relation: In, Of: &left}, `"Sora" in #left`, []Rect{{0, 10, 100, 20}}},
		// by place, not by order in the tree
		{Locator{Role: "listitem", Relation: In, Of: &left, Ordinal: 1}, "1st listitem in #left",
			[]Rect{{0, 10, 100, 20}}},
		// of those in sight
		{Locator{Role: "listitem", Relation: In, Of: &left, Ordinal: Last}, "last listitem in #left",
			[]Rect{{0, 40, 100, 20}}},
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
	tree := order()
	require.Len(t, tree.Shown(Locator{Role: "listitem"}.Find(tree)), 3, "what is scrolled away cannot be seen")
}

func TestATouchMeetsWhatIsPaintedLast(t *testing.T) {
	tree := order()
	pay := Locator{ID: "pay"}.Find(tree)[0]
	pay.Touch = true
	require.Nil(t, tree.Obstacle(pay), "the words on a button do not cover it")
	layer := node("", "toasts", "", Rect{0, 0, 400, 800})
	tree.Root.Children = append(tree.Root.Children, layer)
	require.Nil(t, tree.Obstacle(pay), "what is see-through and takes no touches is in nobody's way")
	words := node("", "", "Are you sure?", Rect{0, 200, 400, 400})
	words.Opaque = true
	dialog := node("dialog", "", "", Rect{0, 200, 400, 400}, words)
	tree.Root.Children = append(tree.Root.Children, dialog)
	require.Same(t, dialog, tree.Obstacle(pay), "and it is named by what says what it is")
}

func TestShownIsWhatAPersonSees(t *testing.T) {
	under := node("", "", "Old total", Rect{0, 100, 100, 20})
	beside := node("", "", "Beside", Rect{0, 180, 100, 40})
	sheet := node("", "", "", Rect{0, 0, 400, 200}, node("", "", "On the sheet", Rect{0, 100, 100, 20}))
	tree := &Tree{Root: node("application", "", "", Rect{0, 0, 400, 800}, under, beside, sheet), Width: 400,
		Height: 800}
	texts := func() (out []string) {
		for _, n := range tree.Shown([]*Node{under, beside, sheet.Children[0]}) {
			out = append(out, n.Text)
		}
		return out
	}
	require.Equal(t, []string{"Old total", "Beside", "On the sheet"}, texts(), "a see-through sheet hides nothing")
	sheet.Opaque = true
	require.Equal(t, []string{"Beside", "On the sheet"}, texts(),
		"an opaque one hides what it lies over whole, and not what is on it")
	left, right := node("", "", "", Rect{0, 90, 60, 40}), node("", "", "", Rect{50, 90, 60, 40})
	left.Opaque, right.Opaque = true, true
	tree.Root.Children = []*Node{under, left, right}
	require.Empty(t, tree.Shown([]*Node{under}), "two that overlap hide it together")
}

func TestOrderIsTheOrderOfReading(t *testing.T) {
	texts := func(tree *Tree) (out []string) {
		for _, n := range (Locator{Role: "listitem"}).Find(tree) {
			out = append(out, n.Text)
		}
		return out
	}
	item := func(text string, at Rect) *Node { return node("listitem", "", text, at) }
	screen := func(language string, kids ...*Node) *Tree {
		return &Tree{Root: node("application", "", "", Rect{0, 0, 400, 800}, kids...), Width: 400, Height: 800,
			Language: language}
	}
	uneven := []*Node{item("C", Rect{220, 5, 80, 30}), item("B", Rect{110, 0, 80, 40}), item("A", Rect{0, 12, 80, 16}),
		item("D", Rect{0, 60, 80, 20})}
	require.Equal(t, []string{"A", "B", "C", "D"}, texts(screen("en-GB", uneven...)),
		"a row of uneven heights is one line")
	require.Equal(t, []string{"C", "B", "A", "D"}, texts(screen("ar-EG", uneven...)), "and runs as the language does")
	tall := []*Node{item("picture", Rect{0, 0, 80, 100}), item("1", Rect{100, 0, 80, 20}),
		item("2", Rect{200, 0, 80, 20}), item("3", Rect{100, 40, 80, 20}), item("4", Rect{200, 40, 80, 20})}
	require.Equal(t, []string{"picture", "1", "2", "3", "4"}, texts(screen("en-GB", tall...)),
		"lines beside a tall one are lines")
}

func TestTextsAreComparedAsUnicodeComposesThem(t *testing.T) {
	field := node("textbox", "name", "", Rect{0, 0, 100, 20})
	field.Value = "Jose\u0301 \u00a0 Minami"
	tree := &Tree{Root: node("application", "", "", Rect{0, 0, 400, 800}, field), Width: 400, Height: 800}
	require.Len(t, Locator{Label: Match{Text: "José Minami"}}.Find(tree), 1, "what was typed into a field is seen")
	require.Len(t, Locator{Label: Match{Pattern: regexp.MustCompile("^José M")}}.Find(tree), 1)
	require.Contains(t, Disguised("Pay\u200b now", "Pay now"), "U+200B")
	require.Empty(t, Disguised("Pay now", "Buy now"))
}

func TestChangesAreTheElementsThatDiffer(t *testing.T) {
	before, after := order(), order()
	require.Empty(t, Changes(before, after))
	after.Root.Children[0].Children[0].Text = "Haruka"
	after.Root.Children[1].Children = append(after.Root.Children[1].Children, node("listitem", "", "Tobi",
		Rect{200, 30, 100, 20}))
	changes := Changes(before, after)
	require.Len(t, changes, 2)
	require.Equal(t, "Haruka", changes[0].Node.Text)
	require.Equal(t, 1, changes[1].Kids)
}

func TestNearestSuggestsWhatWasMeant(t *testing.T) {
	require.Equal(t, "pay", Locator{ID: "pya"}.Nearest(order(), 3)[0].ID)
	require.Equal(t, "Sora", Locator{Label: Match{Text: "Sorra"}}.Nearest(order(), 1)[0].Text)
	require.Empty(t, Locator{Label: Match{Text: "something else entirely"}}.Nearest(order(), 3))
}
