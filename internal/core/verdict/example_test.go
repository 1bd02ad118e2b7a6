package verdict_test

import (
	"fmt"

	"yamato/internal/core/verdict"
)

// A case that the same build failed and then passed in one combination is flaky.
func ExampleOfCrossing() {
	c := verdict.OfCrossing([]verdict.Verdict{verdict.Fail, verdict.Pass})
	fmt.Println(c.Verdict, c.Flaky)
	// Output: pass true
}

// The heaviest says what a whole is.
func ExampleFold() {
	fmt.Println(verdict.Fold([]verdict.Verdict{verdict.Pass, verdict.Error, verdict.Skip}))
	fmt.Println(verdict.Fold([]verdict.Verdict{verdict.Pass, verdict.Error, verdict.Fail}))
	// Output:
	// error
	// fail
}
