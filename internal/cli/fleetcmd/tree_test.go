package fleetcmd

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
)

func TestTheTreeIsShownByWhatCanBeSeen(t *testing.T) {
	at := screen.Rect{X: 1, Y: 2, W: 30, H: 40}
	tree := &screen.Tree{Root: &screen.Node{Role: "application", Bounds: at, Visible: at, Children: []*screen.Node{
		{Bounds: at, Visible: at, Children: []*screen.Node{{Role: "button", ID: "buy", Text: "Buy", Bounds: at,
			Visible:  at,
			Disabled: true}}},
		{Role: "listitem", Text: "scrolled away", Bounds: at},
	}}}
	rows, hidden := treeRows(tree)
	require.Equal(t, 1, hidden)
	require.Equal(t, [][]string{{"application", "", "", "1,2 30x40", ""}, {"  button", "Buy", "#buy", "1,2 30x40",
		"disabled"}}, rows, "what says nothing takes no line and no indentation")
}
