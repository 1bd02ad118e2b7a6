package checklist_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/checklist"
)

func ExampleRead() {
	l, _ := checklist.Read("# Before each release\n\n## Tickets\n- [ ] The total is under the fares\n* [x] Paying twice is not possible\n")
	fmt.Println(l.Title)
	for _, i := range l.Items {
		fmt.Println(i.Name())
	}
	// Output:
	// Before each release
	// Tickets: The total is under the fares
	// Tickets: Paying twice is not possible
}

func TestWhatIsNoTaskIsForPeople(t *testing.T) {
	l, err := checklist.Read("Read this first.\r\n# A list #\r\n- not a task\n-[ ] nor this\n#hash\n- [ ]   spaces   are   one \n1. [ ] numbered\n  - [ ] indented\n")
	require.NoError(t, err)
	require.Equal(t, "A list", l.Title)
	require.Equal(t, []checklist.Item{{Text: "spaces are one", Line: 6}, {Text: "indented", Line: 8}}, l.Items)
}

func TestWhatIsNoChecklistIsRefusedWithItsLine(t *testing.T) {
	for text, want := range map[string]string{
		"":                                       "no title",
		"# T":                                    "nothing to look at",
		"- [ ] a":                                "no title",
		"# T\n- [ ] a\n- [ ] a":                  "line 3",
		"# T\n- [ ] " + strings.Repeat("x", 500): "line 2",
		"# T\n" + strings.Repeat("x", 300<<10):   "256 kB",
		"# T\n" + strings.Repeat("- [ ] x", 1) + func() (s string) {
			for i := range 600 {
				s += fmt.Sprintf("\n- [ ] y%d", i)
			}
			return s
		}(): "500 things",
	} {
		_, err := checklist.Read(text)
		var f *checklist.Fault
		require.True(t, errors.As(err, &f))
		require.Contains(t, f.Error(), want)
		require.NotEmpty(t, f.Hint)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("# T\n- [ ] a")
	f.Fuzz(func(t *testing.T, text string) {
		l, err := checklist.Read(text)
		if err != nil {
			return
		}
		names := map[string]bool{}
		for _, i := range l.Items {
			if names[i.Name()] || i.Text == "" || strings.ContainsAny(i.Text, "\x00\n") {
				t.Fatalf("%+v", i)
			}
			names[i.Name()] = true
		}
	})
}
