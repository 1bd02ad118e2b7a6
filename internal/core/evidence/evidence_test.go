package evidence

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEachKindIsOneOfAKind(t *testing.T) {
	names, types := map[string]bool{}, map[string]bool{}
	for _, k := range Kinds {
		require.False(t, names[k.Name] || types[k.MediaType], "a reader tells by either what it has")
		names[k.Name], types[k.MediaType] = true, true
		found, ok := Named(k.Name)
		require.True(t, ok)
		require.Equal(t, k, found)
	}
	_, ok := ByMediaType("text/html")
	require.False(t, ok, "what might run is of no kind")
}

func ExampleByMediaType() {
	k, ok := ByMediaType("image/png")
	fmt.Println(k.Name, k.Extension, k.Passive, ok)
	// Output: picture .png true true
}
