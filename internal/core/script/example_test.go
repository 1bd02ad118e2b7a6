package script_test

import (
	"fmt"

	"yamato/internal/core/script"
)

// A suite is read with the files that it uses; what is wrong with it is told with what was meant.
func ExampleReadWith() {
	beside := script.FileMap{"steps/paying.yamato": "action pay with $card\n  set #card to \"{card}\"\n  tap #pay\nend\n"}
	suite, findings := script.ReadWith(`suite "Tickets"
use "steps/paying.yamato"

case "a ticket is paid for"
  do pay whit "4000"
  expect #ticket
end
`, beside)
	fmt.Println(suite.Name, len(suite.Cases))
	for _, f := range findings {
		fmt.Println(f.Message + "; " + f.Hint)
	}
	// Output:
	// Tickets 1
	// there is no action `pay whit "4000"`; did you mean `do pay with $card`?
}

// A suite that is right by itself is compared with what a build says and a device can do.
func ExampleSuite_Against() {
	suite, _ := script.Read(`suite "Tickets"

case "paying"
  tap button called word(pay)
  rotate to landscape
  expect #ticket
end
`)
	for _, f := range suite.Against(script.Against{
		Texts:   script.Texts{"buy": {"en": "Buy", "de": "Kaufen"}},
		Devices: []script.Able{{Name: "kaede-7-h1"}},
	}) {
		fmt.Printf("%d:%d %s\n", f.Pos.Line, f.Pos.Column, f.Message)
	}
	// Output:
	// 4:21 this build has no text `pay`
	// 5:3 no device of the lineup has the ability rotation
}

// A script is laid out the one way.
func ExampleFormatWith() {
	laid, _ := script.FormatWith("suite   \"Tickets\"\ncase \"c\"\ntap   #pay   // at last\n expect  #ticket\nend", nil)
	fmt.Print(laid)
	// Output:
	// suite "Tickets"
	// case "c"
	//   tap #pay  // at last
	//   expect #ticket
	// end
}
