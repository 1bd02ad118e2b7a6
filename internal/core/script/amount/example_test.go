package amount_test

import (
	"fmt"
	"math/big"

	"yamato/internal/core/script/amount"
)

func ExampleCalculate() {
	single, passengers := big.NewRat(315, 100), big.NewRat(3, 1)
	total, _ := amount.Calculate(single, "*", passengers)
	fmt.Println(amount.Value{Number: total})
	_, why := amount.Calculate(total, "/", new(big.Rat))
	fmt.Println(why)
	// Output:
	// 9.45
	// it divides by zero
}
