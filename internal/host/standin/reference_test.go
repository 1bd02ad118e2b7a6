package standin_test

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

var fenced = regexp.MustCompile("(?s)```(suite|steps)\n(.*?)```")

// examples are those of the language's reference: whole suites, and steps of a case.
func examples(t *testing.T) []string {
	t.Helper()
	text, err := os.ReadFile("../../../docs/script.md")
	require.NoError(t, err)
	var out []string
	for _, m := range fenced.FindAllStringSubmatch(string(text), -1) {
		if m[1] == "steps" {
			m[2] = "suite \"steps\"\npatience 4s\ncase \"these steps\"\nstart app fresh\nlet n = 1\n" + m[2] + "end\n"
		}
		out = append(out, m[2])
	}
	require.Greater(t, len(out), 8)
	return out
}

func TestEveryExampleOfTheReferenceRuns(t *testing.T) {
	testbin.Unhurried(t)
	devices := bench(t)
	d := devices[slices.IndexFunc(devices, func(d driver.Device) bool { return d.Describe().Name == "kaede-7-1" })]
	o := demotest.SampleOptions(t, d)
	o.Update = func(_ context.Context, build string) error {
		if build != demo.Newest.Name {
			return fmt.Errorf("there is no build %s", build)
		}
		install(t, d, demo.Newest, "en-GB")
		return nil
	}
	for n, text := range examples(t) {
		t.Run(fmt.Sprint(n+1), func(t *testing.T) {
			s := demotest.SampleSuite(t, text)
			install(t, d, demo.Versions[0], "en-GB")
			play := script.NewPlay(s, d, o)
			for i, c := range s.Cases {
				r := play.Case(context.Background(), c, i == len(s.Cases)-1, &pictures{t: t})
				require.Equal(t, verdict.Pass, r.Verdict, "%s: %+v\n%+v", c.Name, r.Failure, r.Steps)
			}
		})
	}
}

// Each form that the language has is in the reference, in an example that runs.
func TestTheReferenceHasEveryForm(t *testing.T) {
	all := strings.Join(examples(t), "\n")
	l := script.Language()
	for _, w := range append(l.Steps, l.File...) {
		if w.Word == "keep" { // in the table of lines alone: the examples begin afresh
			continue
		}
		require.Regexp(t, `(?m)^\s*`+w.Word+`\b`, all, "no example begins with %q", w.Word)
	}
	for _, s := range l.States {
		require.Contains(t, all, "is "+s, "no example expects something to be %s", s)
	}
	for _, form := range []string{" near ", " above ", " below ", " left of ", " right of ", "xpath ", "2nd ", "last ",
		"word(", "count of ", "text matching ",
		"number matching ", "secret ", "came up", " for 1s", "unless passed", "give back ", "else if ", " times",
		"is inside ", "is as wide as ", "is clear of #",
		"start within ", "memory below ", "screen is accessible", "no errors in log", "no log matches ", "log matches ",
		"app is running", "app in front", "!=",
		"at least ", "at most ", "needs ", "each island"} {
		require.Contains(t, all, form)
	}
}
