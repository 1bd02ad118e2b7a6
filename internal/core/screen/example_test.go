package screen_test

import (
	"fmt"

	"yamato/internal/core/screen"
)

// A number on screen is read as the device's language writes it, exactly, and never guessed.
func ExampleNumber() {
	for _, c := range [][2]string{{"1.234,50 €", "de-DE"}, {"£1,234.50", "en-GB"}, {"12.50", "de-DE"},
		{"3 of 5", "en-GB"}} {
		n, err := screen.Number(c[0], c[1])
		if err != nil {
			fmt.Println(c[0], "in", c[1]+":", err)
			continue
		}
		fmt.Println(c[0], "in", c[1]+":", n.FloatString(2))
	}
	// Output:
	// 1.234,50 € in de-DE: 1234.50
	// £1,234.50 in en-GB: 1234.50
	// 12.50 in de-DE: "12.50" is not grouped as this language does
	// 3 of 5 in en-GB: it holds several numbers
}
