package suggest

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/core/script"
)

func TestSuggestedLinesDoWhatOneDoesWithSuchAnElement(t *testing.T) {
	field := &screen.Node{Role: "textbox", ID: "passengers", Value: "1"}
	button := &screen.Node{Role: "button", Name: "Continue"}
	total := &screen.Node{ID: "total", Text: "€6.30"}
	odd := &screen.Node{Role: "no-such-role", Text: "a \"quoted\" {thing}"}
	tree := &screen.Tree{Root: &screen.Node{Role: "application", Children: []*screen.Node{field, button, total, odd}}}
	for _, c := range []struct {
		node *screen.Node
		want []string
	}{
		{field, []string{`set #passengers to "…"`, `expect #passengers`, `expect #passengers shows "1"`,
			`let x = number in #passengers`}},
		{button, []string{`tap button called "Continue"`, `expect button called "Continue"`}},
		{total, []string{`expect #total`, `expect #total shows "€6.30"`, `let x = number in #total`}},
		{odd, nil},
	} {
		_, lines := For(tree, c.node)
		require.Equal(t, c.want, lines)
		for _, l := range lines {
			_, findings := script.Read("suite \"s\"\ncase \"c\"\n" + l + "\nend\n")
			require.Zero(t, script.Faults(findings), l)
		}
	}
}
