package near_test

import (
	"fmt"

	"yamato/internal/core/near"
)

func ExampleWord() {
	fmt.Println(near.Word("chekc", []string{"check", "push", "ls"}))
	fmt.Printf("%q\n", near.Word("weather", []string{"check", "push", "ls"}))
	// Output:
	// check
	// ""
}
