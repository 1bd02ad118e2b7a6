package crash

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Stacks as engines and systems write them (ECMAScript engines, Android's runtime and its native
// tombstones, iOS), of made-up apps.
const (
	page = `TypeError: Cannot read properties of undefined (reading 'price')
    at total (https://sorane.example/assets/basket-4f9ac81e.js:12:3411)
    at render (https://sorane.example/assets/basket-4f9ac81e.js:40:7)`
	pageAnew = `TypeError: Cannot read properties of undefined (reading 'name')
    at total (http://127.0.0.1:4711/assets/basket-99ab12cd.js:14:99)
    at render (http://127.0.0.1:4711/assets/basket-99ab12cd.js:41:12)`
	pageElsewhere = `TypeError: Cannot read properties of undefined (reading 'price')
    at refund (https://sorane.example/assets/basket-4f9ac81e.js:12:3411)
    at render (https://sorane.example/assets/basket-4f9ac81e.js:40:7)`
	android = `java.lang.IllegalStateException: 3 passengers and 2 seats
	at example.tideline.Basket.total(Basket.java:120)
	at example.tideline.Basket$$ExternalSyntheticLambda4.run(Unknown Source:8)
	at android.os.Handler.dispatchMessage(Handler.java:102)`
	androidAnew = `java.lang.IllegalStateException: 5 passengers and 4 seats
	at example.tideline.Basket.total(Basket.java:133)
	at example.tideline.Basket$$ExternalSyntheticLambda11.run(Unknown Source:2)
	at android.os.Handler.dispatchMessage(Handler.java:102)`
	native = `signal 11 (SIGSEGV), fault addr 0x0000000000000010
      #00 pc 00000000000412a8  /data/app/~~x==/example.tideline-1/lib/libsea.so (sea_level+120) (BuildId: 1f2e)
      #01 pc 0000000000022b10  /data/app/~~x==/example.tideline-1/lib/libsea.so (main_loop+44)`
	nativeAnew = `signal 11 (SIGSEGV), fault addr 0x0000000000000a18
      #00 pc 00000000000552a8  /data/app/~~yy==/example.tideline-2/lib/libsea.so (sea_level+96) (BuildId: 9a9a)
      #01 pc 0000000000032b10  /data/app/~~yy==/example.tideline-2/lib/libsea.so (main_loop+48)`
	ios = `Exception Type: EXC_BAD_ACCESS
0   Tideline   0x0000000104a3c2d0 0x104a30000 + 49872
1   Tideline   0x0000000104a3c111 Basket.total() + 120`
	gecko = `total@https://sorane.example/basket.js:12:3
render@https://sorane.example/basket.js:40:7`
)

func TestTheSameFaultHasTheSameKeyAndAnotherHasAnother(t *testing.T) {
	for name, pair := range map[string][2]string{"page": {page, pageAnew}, "android": {android, androidAnew},
		"native": {native, nativeAnew}} {
		a, b := Read("it crashed", pair[0]), Read("it crashed", pair[1])
		require.Equal(t, a.Frames, b.Frames, name)
		require.Equal(t, a.Key, b.Key, name)
	}
	seen := map[string]string{}
	for name, report := range map[string]string{"page": page, "elsewhere": pageElsewhere, "android": android,
		"native": native, "ios": ios,
		"gecko": gecko, "none": "", "words": "it stopped answering"} {
		s := Read("it crashed", report)
		require.Empty(t, seen[s.Key], name)
		seen[s.Key] = name
		require.NotEmpty(t, s.Title)
		if len(report) > 40 {
			require.NotEmpty(t, s.Frames, name)
		}
	}
	require.Equal(t, "it stopped answering", Read("it stopped answering", "").Title)
}

func TestDepthOfRecursionAndHostileReportsDoNotMatter(t *testing.T) {
	deep := func(n int) string {
		return "RangeError: too much\n" + strings.Repeat("    at walk (a.js:3:9)\n", n) + "    at start (a.js:1:1)\n"
	}
	require.Equal(t, Read("", deep(20)).Key, Read("", deep(9000)).Key)
	s := Read("", strings.Repeat("    at "+strings.Repeat("x", 5000)+"\n", 10_000))
	size := len(s.Title)
	for _, f := range s.Frames {
		size += len(f)
	}
	require.Less(t, size, 10_000)
	require.Equal(t, Read("a\x00b\xff", "").Title, Read("a\x00b\xff", "").Title)
}

func ExampleRead() {
	s := Read("it crashed", page)
	fmt.Println(s.Title)
	fmt.Println(strings.Join(s.Frames, "\n"))
	// Output:
	// TypeError: Cannot read properties of undefined (reading 'price')
	// total (/assets/basket-·.js)
	// render (/assets/basket-·.js)
}
