package report

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTextsAreFoldedAtBlanksAndNothingIsLost(t *testing.T) {
	require.Equal(t, []string{"one two", "three"}, Fold("one two three", 8))
	require.Equal(t, []string{"  one", "two"}, Fold("  one two", 6))
	require.Equal(t, []string{"abcdef", "ghij k"}, Fold("abcdefghij k", 6))
	require.Equal(t, []string{"whole as it is"}, Fold("whole as it is", 0))
	painted := Ink{On: true}.Strong("one two")
	require.Equal(t, []string{painted}, Fold(painted, 7), "colours take no room")
	require.Equal(t, []string{"  because  it is not", "           there at", "           all"},
		Indented("  because  it is not there at all", 11, 22))
	text := strings.Repeat("crossing ", 40) + strings.Repeat("船", 90)
	for width := 10; width < 60; width += 7 {
		lines := Indented(text, 4, width)
		require.Equal(t, strings.ReplaceAll(text, " ", ""), strings.ReplaceAll(strings.Join(lines, ""), " ", ""))
		for _, l := range lines {
			require.LessOrEqual(t, visible(l), width)
			require.Equal(t, strings.TrimRight(l, " "), l)
		}
	}
}
