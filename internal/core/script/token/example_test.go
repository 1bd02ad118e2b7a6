package token_test

import (
	"fmt"

	"yamato/internal/core/script/token"
)

func ExampleScan() {
	for _, t := range token.Scan("tap \"Buy\"  // now", func(token.Finding) {}) {
		if !t.EndsLine() {
			fmt.Printf("%d:%d %s\n", t.Pos.Line, t.Pos.Column, t.Raw)
		}
	}
	// Output:
	// 1:1 tap
	// 1:5 "Buy"
}
