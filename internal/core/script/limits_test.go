package script

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A script is refused or read, whatever its size and depth, without deep recursion,
// with little more memory than it has itself, and with few words.
func TestAScriptOfAnySizeAndDepthIsReadWithinBounds(t *testing.T) {
	in := func(steps string) string { return "suite \"s\"\ncase \"c\"\n" + steps + "\nexpect #a\nend\n" }
	many := func(n int, line func(i int) string) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(line(i) + "\n")
		}
		return b.String()
	}
	for name, c := range map[string]struct{ text, says string }{
		"brackets":          {in("let a = " + strings.Repeat("(", 480_000)), "longer than the 4000 characters"},
		"brackets, shorter": {in("let a = " + strings.Repeat("(", 3900)), "nested more than 40 deep"},
		"minus signs":       {in("let a = " + strings.Repeat("-", 3900) + "1"), "nested more than 40 deep"},
		"terms":             {in("let a = 1" + strings.Repeat("+1", 1900)), "at most 200 terms"},
		"elements":          {in("tap #a" + strings.Repeat(" in #a", 600)), "nested more than 40 deep"},
		"variables":         {in(`tap "` + strings.Repeat("{a}", 1300) + `"`), "nothing is called `a` here"},
		"unknown variables": {in(many(15_000, func(i int) string {
			return fmt.Sprintf("expect number in #a = $v%d", i)
		})), "more findings than can be listed"},
		"known and unknown": {in(many(9000, func(i int) string {
			return fmt.Sprintf("let a%d = 1\nexpect $b%d = 1", i, i)
		})), "more findings than can be listed"},
		"tags":           {"tags a" + strings.Repeat(", a", 1000) + "\n" + in("tap #a"), "at most 50 tags"},
		"tags on lines":  {many(10_000, func(int) string { return "tags a, b" }) + in("tap #a"), "at most 50 tags"},
		"one long line":  {in("tap \"" + strings.Repeat("<", 1_000_000)), "longer than"},
		"a long name":    {in("tap #" + strings.Repeat("a", 3000)), "at most 100 characters"},
		"large patterns": {in(many(3000, func(int) string { return "expect /[a-z]{900}/" })), "too large"},
		"bare words":     {many(100_000, func(int) string { return "x" }), "more findings"},
		"conditions":     {in(strings.Repeat("if #a\n", 150_000)), "nested more than 40 deep"},
		"otherwise":      {in(strings.Repeat("if #a\nelse ", 80_000)), "nested more than 40 deep"},
		"calls":          {in(many(20_000, func(i int) string { return fmt.Sprintf("do x%d", i) })), "more findings"},
		"actions": {many(20_000, func(i int) string { return fmt.Sprintf("action a%d $x\ntap #a\nend", i) }) +
			in("tap #a"), "at most 5000 actions"},
		"rows": {"suite \"s\"\ncase \"{a}\"\neach a\n" + many(20_000,
			func(i int) string { return fmt.Sprint(i) }) + "end\nexpect \"{a}\"\nend\n", "at most 1000 rows"},
		"columns": {"suite \"s\"\ncase \"{a}\"\neach a" + strings.Repeat(", a", 1000) + "\n1\nend\nend\n",
			"two values of a row"},
		"relations":    {in("tap #a" + strings.Repeat(" near #a", 400)), "nested more than 40 deep"},
		"keys":         {in("let x = word(a" + strings.Repeat(", 1", 1000) + ")"), "at most 10 values"},
		"keys in keys": {in("let x = " + strings.Repeat("word(a, ", 400)), "nested more than 40 deep"},
		"XPath":        {in("tap xpath \"" + strings.Repeat("//a", 500) + "\""), "longer than"},
		"XPath, deep":  {in("tap xpath \"" + strings.Repeat("(", 200) + "\""), "cannot be used"},
		"words":        {in("do " + strings.Repeat("a ", 1900)), "at most 30 words"},
		"needs": {"suite \"s\"\ncase \"c\" needs a" + strings.Repeat(", b", 1000) + "\nexpect #a\nend\n",
			"no device has"},
		"controls": {in("picture as \"a\x00b\""), "control characters"},
		"damaged":  {in("tap \"a\xffb\""), "not UTF-8"},
		"steps":    {in(many(60_000, func(int) string { return "tap #a" })), "at most 50000 steps"},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, findings := Read(c.text)
			runtime.ReadMemStats(&after)
			require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(600<<20))
			written := 0
			var says strings.Builder
			for _, f := range findings {
				written += len(f.Format("f.yamato"))
				says.WriteString(f.Message + "\n")
			}
			require.NotZero(t, Faults(findings))
			require.Contains(t, says.String(), c.says)
			require.Less(t, written, 2<<20, "findings repeat no more than the part of a line that they are about")
		})
	}
}

// Depth and repetition, which a fuzzer that changes bytes does not find by itself.
func FuzzReadAtSizeAndDepth(f *testing.F) {
	f.Add("let a = ", "(", uint16(500), "1")
	f.Add("tap #a", " in #a", uint16(300), "")
	f.Add("tap \"", "{a}", uint16(900), "\"")
	f.Add("tags a", ", a", uint16(60000), "")
	f.Add("expect /", "(a|b){9}", uint16(100), "/")
	f.Fuzz(func(t *testing.T, head, part string, times uint16, tail string) {
		if len(part) > 16 {
			part = part[:16]
		}
		_, findings := Read("suite \"s\"\ncase \"c\"\n" + head + strings.Repeat(part, int(times)) + tail + "\nend\n")
		require.LessOrEqual(t, len(findings), maxFindings)
		for _, one := range findings {
			require.LessOrEqual(t, len(one.Format("f")), 2800)
		}
	})
}
