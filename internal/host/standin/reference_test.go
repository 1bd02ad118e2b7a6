package standin_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/driver"
)

// beside are files beside a suite.
type beside map[string]string

func (b beside) Text(path string) (string, error) {
	if text, ok := b[path]; ok {
		return text, nil
	}
	return "", errors.New("there is no such file")
}

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

// circumstances are those of the sample project on a device.
func circumstances(t *testing.T, d driver.Device) script.Options {
	t.Helper()
	packages, err := demo.Packages(demo.Versions[0], time.Now())
	require.NoError(t, err)
	texts, err := appfile.ReadTexts(bytes.NewReader(packages[0].Data), int64(len(packages[0].Data)))
	require.NoError(t, err)
	o := script.Options{App: demo.ApplicationID, Words: texts.Speaker().Say, Secrets: demo.Secrets,
		Accounts: map[string]map[string]string{}, Traits: d.Describe().Traits}
	for _, a := range demo.Accounts {
		o.Accounts[a.Name] = map[string]string{"user": a.User, "password": a.Password}
	}
	o.Update = func(_ context.Context, build string) error {
		if build != demo.Newest.Name {
			return fmt.Errorf("there is no build %s", build)
		}
		install(t, d, demo.Newest, "en-GB")
		return nil
	}
	o.File = func(string) (string, error) {
		var picture bytes.Buffer
		require.NoError(t, png.Encode(&picture, image.NewGray(image.Rect(0, 0, 2, 2))))
		path := filepath.Join(t.TempDir(), "pass.png")
		return path, os.WriteFile(path, picture.Bytes(), 0o600)
	}
	o.Ask = func(context.Context, string, time.Duration) (string, error) { return "", nil }
	return o
}

func TestEveryExampleOfTheReferenceRuns(t *testing.T) {
	suites, err := demo.Suites()
	require.NoError(t, err)
	i := slices.IndexFunc(bench(t), func(d driver.Device) bool { return d.Describe().Name == "kaede-7-1" })
	d := bench(t)[i]
	o := circumstances(t, d)
	for n, text := range examples(t) {
		t.Run(fmt.Sprint(n+1), func(t *testing.T) {
			s, findings := script.ReadWith(text, beside(suites))
			require.Zero(t, script.Faults(findings), "%+v", findings)
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
	for _, form := range []string{" near ", " above ", " below ", " left of ", " right of ", "xpath ", "2nd ", "last ", "word(", "count of ", "text matching ",
		"number matching ", "secret ", "came up", " for 1s", "unless passed", "give back ", "else if ", " times", "is inside ", "is as wide as ", "is clear of #",
		"start within ", "memory below ", "screen is accessible", "no errors in log", "no log matches ", "log matches ", "app is running", "app in front", "!=",
		"at least ", "at most ", "needs ", "each island"} {
		require.Contains(t, all, form)
	}
}
