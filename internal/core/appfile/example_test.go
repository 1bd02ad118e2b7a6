package appfile_test

import (
	"errors"
	"fmt"
	"strings"

	"yamato/internal/core/appfile"
)

// What is no package is refused, with the reason and with what to hand in instead.
func ExampleRead() {
	text := "This is a letter, and no app."
	_, err := appfile.Read(strings.NewReader(text), int64(len(text)))
	var refusal *appfile.Refusal
	fmt.Println(errors.As(err, &refusal), err)
	// Output: true the file is not a zip archive, as every kind of package is
}
