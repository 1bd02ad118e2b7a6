package suggest_test

import (
	"fmt"

	"yamato/internal/core/screen"
	"yamato/internal/core/script/suggest"
)

func ExampleFor() {
	button := &screen.Node{Role: "button", Name: "Continue"}
	tree := &screen.Tree{Root: &screen.Node{Role: "application", Children: []*screen.Node{button}}}
	_, lines := suggest.For(tree, button)
	for _, l := range lines {
		fmt.Println(l)
	}
	// Output:
	// tap button called "Continue"
	// expect button called "Continue"
}
