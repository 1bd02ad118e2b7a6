package script_test

import (
	"fmt"

	"yamato/internal/core/script"
)

// A script is read whole: every fault is found, with its place and what was probably meant.
func ExampleRead() {
	suite, findings := script.Read("suite \"Buying\"\ncase \"one\"\n  tpa \"Buy\"\n  expect number in #total = " +
		"9.45\nend\n")
	for _, f := range findings {
		fmt.Print(f.Format("buying.suite"))
	}
	fmt.Println(suite.Name, "has", len(suite.Cases), "case")
	// Output:
	// buying.suite:3:3: fault: unknown word `tpa`; did you mean `tap`?
	//       tpa "Buy"
	//       ^^^
	// Buying has 1 case
}

// Scripts are laid out the one way.
func ExampleFormat() {
	text, _ := script.Format("suite   \"Buying\"\n\n\n\ncase \"one\"\nTAP \"Buy\"   // twice\nend")
	fmt.Print(text)
	// Output:
	// suite "Buying"
	//
	// case "one"
	//   tap "Buy"  // twice
	// end
}
