package plain

import (
	"encoding/json"
	"fmt"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

func TestWhatIsNoTextIsMadeText(t *testing.T) {
	require.Equal(t, "bad\uFFFDthing", Text("bad\x00thing", 100))
	require.Equal(t, "bad\uFFFDthing", Text("bad\xffthing", 100))
	require.Equal(t, "über", Text("über", 100))
	require.Equal(t, "ü…", Text("üüüüü", 6), "cut between characters")
	require.True(t, Is("über") && !Is("a\x00") && !Is("\xff"))
}

func TestEveryStringOfAValueIsCleaned(t *testing.T) {
	type inner struct{ Text string }
	v := struct {
		Name   string
		List   []inner
		Point  *inner
		Raw    json.RawMessage
		Map    map[string]string
		Any    any
		Number int
		Bytes  []byte
	}{"a\x00", []inner{{"b\xff"}}, &inner{"c\x00"},
		json.RawMessage(`{"k\u0000":["\u0000","\ud800"],"n":12345678901234567890}`),
		map[string]string{"k\x00": "v\x00"},
		map[string]any{"x": []any{"y\x00"}}, 3, []byte{0, 1}}
	Deep(&v, 100)
	require.Equal(t, "a\uFFFD", v.Name)
	require.Equal(t, "b\uFFFD", v.List[0].Text)
	require.Equal(t, "c\uFFFD", v.Point.Text)
	require.JSONEq(t, `{"k�":["�","�"],"n":12345678901234567890}`, string(v.Raw))
	require.Equal(t, map[string]string{"k\uFFFD": "v\uFFFD"}, v.Map)
	require.Equal(t, map[string]any{"x": []any{"y\uFFFD"}}, v.Any)
	require.Equal(t, []byte{0, 1}, v.Bytes)
	require.Equal(t, "null", string(JSON(json.RawMessage("{"), 10)))
}

func ExampleText() {
	fmt.Println(Text("bad\x00thing", 100), Text("a long sentence", 8))
	// Output: bad�thing a lon…
}

func FuzzText(f *testing.F) {
	f.Add("a\x00\xff", 3)
	f.Fuzz(func(t *testing.T, s string, max int) {
		max = 3 + min(max&0xff, 200)
		out := Text(s, max)
		if !utf8.ValidString(out) || !Is(out) || len(out) > 3*max {
			t.Fatalf("%q of at most %d is %q", s, max, out)
		}
	})
}

func TestATextIsCutBetweenCharacters(t *testing.T) {
	require.Equal(t, "日本", Clip("日本", 2))
	require.Equal(t, "日本…", Clip("日本語", 2))
	require.Equal(t, "👩👩…", Clip("👩👩👩👩👩", 2), "characters of four bytes count as one")
	require.Equal(t, "ab…", Clip("ab"+string(make([]byte, 1<<20)), 2))
}
