package plain_test

import (
	"fmt"

	"yamato/internal/core/plain"
)

// What an app, a package or a host says is made text before anything else sees it.
func ExampleText() {
	fmt.Printf("%q\n", plain.Text("a\x00b\xffc", 100))
	fmt.Printf("%q\n", plain.Text("a long story", 6))
	// Output:
	// "a�b�c"
	// "a l…"
}
