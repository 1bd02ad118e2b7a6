package script

import (
	"fmt"
	"strings"
	"testing"
)

// manyLines is a script of about n lines, of many forms.
func manyLines(n int) string {
	var b strings.Builder
	b.WriteString("suite \"Many\"\n\naction book $island\n  tap button near \"{island}\"\n  give back number in #total\nend\n")
	for k := range (n - 7) / 11 {
		fmt.Fprintf(&b, "\ncase \"number %d\" tags t%d\n  let fare = number in #single-fare\n  tap #book-%d\n  put \"Sora %d\" in textbox called \"From\"\n"+
			"  if \"Offer\"\n    tap 1st button in #offers within 2s\n  end\n  let total = do book \"Minami\"\n  expect $total = $fare * 3 + %d.25\nend\n", k, k%9, k, k, k)
	}
	return b.String()
}

func BenchmarkRead10000Lines(b *testing.B) {
	text := manyLines(10_000)
	if _, findings := Read(text); Faults(findings) > 0 {
		b.Fatal(findings)
	}
	b.ReportAllocs()
	for b.Loop() {
		Read(text)
	}
}
