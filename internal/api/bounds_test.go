package api

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestABodyThatIsNoTextOrTooDeepIsRefused(t *testing.T) {
	for body, ok := range map[string]bool{
		`{"a":["b",1,null]}`: true, `{"a":"\u0000"}`: false, "{\"a\":\"\x00\"}": false, "\xff": false,
		`{"\u0000":1}`: false, `{"a":"\\u0000"}`: true,
		strings.Repeat("[", 33): false, strings.Repeat("[", 30) + strings.Repeat("]", 30): true,
		"[" + strings.Repeat("1,", 30_000) + "1]": false, "[" + strings.Repeat("1,", 5000) + "1]": true,
		"no JSON": true,
	} {
		require.Equal(t, ok, checkJSON([]byte(body)) == nil, "%.60s", body)
	}
}

func FuzzBodies(f *testing.F) {
	f.Add([]byte(`{"build":"1","suites":["\u0000"]}`))
	f.Add([]byte(`[[[["\ud800"]]]]`))
	f.Fuzz(func(t *testing.T, body []byte) {
		if checkJSON(body) != nil {
			return
		}
		var v any
		if json.Unmarshal(body, &v) != nil {
			return
		}
		out, err := json.Marshal(v)
		if plain := strings.ReplaceAll(string(out), `\\`, ""); err != nil || strings.Contains(plain, `\u0000`) {
			t.Fatalf("%q passes as text (%v)", out, err)
		}
	})
}
