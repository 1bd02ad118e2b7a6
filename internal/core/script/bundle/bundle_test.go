package bundle_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/script/bundle"
)

func Example() {
	b := bundle.Bundle{Text: "suite \"a\"\n", Files: map[string][]byte{"../steps/x.yamato": []byte("action wave\nend\n")}}
	blob, _ := b.Encode()
	again, _ := bundle.Decode(blob)
	text, _ := again.Beside().Text("../steps/x.yamato")
	fmt.Print(again.Text, text)
	// Output:
	// suite "a"
	// action wave
	// end
}

func TestABundleIsWhatItWas(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := bundle.Bundle{Text: rapid.String().Draw(t, "text"),
			Files: rapid.MapOfN(rapid.StringN(1, 20, 40), rapid.SliceOfN(rapid.Byte(), 0, 50), 1, 5).Draw(t, "files")}
		blob, err := b.Encode()
		require.NoError(t, err)
		same, err := b.Encode()
		require.NoError(t, err)
		require.Equal(t, blob, same, "the same files are the same blob")
		again, err := bundle.Decode(blob)
		require.NoError(t, err)
		require.Equal(t, b.Text, again.Text)
		require.Equal(t, len(b.Files), len(again.Files))
		for name, data := range b.Files {
			require.Equal(t, string(data), string(again.Files[name]))
		}
	})
}

func TestWhatIsTooLargeIsRefused(t *testing.T) {
	_, err := bundle.Bundle{Text: "x", Files: map[string][]byte{"a": make([]byte, bundle.MaxSize)}}.Encode()
	require.ErrorContains(t, err, "at most")
	many := bundle.Bundle{Files: map[string][]byte{}}
	for i := range bundle.MaxFiles + 1 {
		many.Files[fmt.Sprint(i)] = nil
	}
	require.Error(t, many.Check())
	plain, err := bundle.Decode([]byte("suite \"a\"\n"))
	require.NoError(t, err)
	require.Equal(t, "suite \"a\"\n", plain.Text)
}

func FuzzDecode(f *testing.F) {
	blob, _ := bundle.Bundle{Text: "a", Files: map[string][]byte{"b": []byte("c")}}.Encode()
	f.Add(blob)
	f.Fuzz(func(t *testing.T, blob []byte) { _, _ = bundle.Decode(blob) })
}
