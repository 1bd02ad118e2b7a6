package near

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDistanceCountsSlips(t *testing.T) {
	for _, c := range []struct {
		a, b string
		d    int
	}{{"tap", "tpa", 1}, {"tap", "tap", 0}, {"", "tap", 3}, {"button", "botton", 1}, {"fill", "type", 4}} {
		require.Equal(t, c.d, Distance(c.a, c.b), "%s %s", c.a, c.b)
		require.Equal(t, c.d, Distance(c.b, c.a))
	}
}

func TestTheWordThatWasMeantIsOneOrTwoSlipsAway(t *testing.T) {
	known := []string{"quays", "name", "os"}
	for word, meant := range map[string]string{"quay": "quays", "nmae": "name", "weather": "", "": "", "xy": "",
		"so": "os"} {
		require.Equal(t, meant, Word(word, known), word)
	}
}
