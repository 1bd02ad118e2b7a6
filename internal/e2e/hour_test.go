package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"yamato/internal/cli"
	"yamato/internal/contract"
	"yamato/internal/host/standin/pack"
)

// The first hour of somebody with the commands, and of a script in CI: what they do first,
// and where they slip.

// bell packs the bell of demo/bell, with a word that makes its content another, and
// writes a suite for it.
func bell(t *testing.T, dir, word string) (apk, suite string) {
	t.Helper()
	here := filepath.Join(dir, "bell-"+word)
	require.NoError(t, os.MkdirAll(here, 0o700))
	for _, name := range []string{"app.yaml", "app.js", "bell.yamato"} {
		text, err := os.ReadFile(filepath.Join("../../demo/bell", name))
		require.NoError(t, err)
		if name == "app.js" {
			text = append(text, []byte("// "+word+"\n")...)
		}
		require.NoError(t, os.WriteFile(filepath.Join(here, name), text, 0o600))
	}
	list, err := pack.Folder(os.DirFS(here), time.Now())
	require.NoError(t, err)
	apk = filepath.Join(here, list[0].File)
	require.NoError(t, os.WriteFile(apk, list[0].Data, 0o600))
	return apk, filepath.Join(here, "bell.yamato")
}

func (r *rig) must(code int, args ...string) (out, errOut string) {
	r.t.Helper()
	out, errOut, got := r.yamato(args...)
	require.Equal(r.t, code, got, "yamato %s\n%s%s", strings.Join(args, " "), out, errOut)
	return out, errOut
}

func (r *rig) run(number int) (d contract.RunDetail) {
	r.t.Helper()
	out, _, _ := r.yamato("run", "show", fmt.Sprint(number), "--output", "json")
	require.NoError(r.t, json.Unmarshal([]byte(out), &d))
	return d
}

func TestWhatWasJustHandedInIsWhatIsMeant(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	r.must(0, "build", "push", filepath.Join(dir, "tideline-3.2.0.apk"))
	r.must(0, "suite", "push", filepath.Join(dir, "suites"))
	apk, suite := bell(t, dir, "first")

	out, _ := r.must(0, "try", suite, "--build", apk, "--on", "Kaede 7")
	require.Contains(t, out, "Quay Bell 1.0 (1), build 1  pass", "though another app has a build 1 too")
	out, _ = r.must(0, "device", "look", "kaede-7-1", "--build", apk)
	require.Contains(t, out, "#rung")
	r.must(0, "suite", "push", suite)
	r.must(0, "run", "start", "--build", apk, "--suite", "The bell", "--on", "Kaede 7", "--wait")

	out, _ = r.must(0, "build", "push", apk)
	require.Contains(t, out, "Build 1  Quay Bell")
	require.Contains(t, out, "Nothing is new")
	other, _ := bell(t, dir, "second")
	out, _ = r.must(0, "build", "push", other, "--label", "branch=try")
	require.Contains(t, out, "Build 2  Quay Bell", "other content under one version is a further build")
	out, _ = r.must(0, "build", "push", other, "--label", "branch=main", "--label", "commit=1a2b")
	require.Contains(t, out, "Build 2  Quay Bell")
	require.Regexp(t, `branch.*try`, out, "a label that another takes the place of is told")
	out, _ = r.must(0, "build", "show", "branch=main")
	require.Contains(t, out, "commit=1a2b")

	junit := filepath.Join(dir, "bell.xml")
	r.must(0, "run", "start", "--build", "#2", "--app", "Quay Bell", "--suite", "The bell", "--on", "kaede-7-2",
		"--wait", "--junit", junit)
	text, err := os.ReadFile(junit)
	require.NoError(t, err)
	require.Contains(t, string(text), `name="label.branch" value="main"`, "JUnit tells builds of one version apart")
	list, _ := r.must(0, "run", "ls", "--find", "Bell")
	require.Regexp(t, `1\.0.*2`, list)
}

func TestOneNamedDeviceRunsItAndNoOther(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	apk, suite := bell(t, dir, "only")
	r.must(0, "build", "push", apk)
	r.must(0, "suite", "push", suite)
	for n := 1; n <= 3; n++ {
		r.must(0, "run", "start", "--build", "1", "--suite", "The bell", "--on", "kaede-7-2", "--wait")
		d := r.run(n)
		require.Len(t, d.Legs, 1)
		for _, a := range d.Legs[0].Attempts {
			require.Equal(t, "kaede-7-2", a.Device)
		}
	}
	out, _ := r.must(0, "build", "settings", "1", "--device", "kaede-7-2")
	require.Contains(t, out, "--on kaede-7-2")
	_, errOut := r.must(2, "run", "start", "--build", "1", "--suite", "The bell", "--on", "kaede-7-9")
	require.Contains(t, errOut, "kaede-7-")

	out, _ = r.must(0, "run", "start", "--build", "1", "--suite", "The bell", "--on", "kaede-7-2", "--preview")
	require.Contains(t, out, "Kaede 7, Android 14")
	out, _ = r.must(0, "run", "ls", "--output", "json")
	var list contract.RunList
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	require.Len(t, list.Items, 3, "a preview starts nothing")
}

func TestWaitingSpeaksEndsInTimeAndCanBeBrokenOff(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	r.must(0, "build", "push", filepath.Join(dir, "tideline-3.1.4.apk"))
	r.must(0, "suite", "push", filepath.Join(dir, "suites"))
	start := func(more ...string) []string {
		return append([]string{"run", "start", "--build", "3.1.4", "--suite", "Buying a ticket", "--on", "kaede-7-1"},
			more...)
	}

	_, errOut := r.must(2, start("--wait", "--junit", filepath.Join(dir, "nowhere", "x.xml"))...)
	require.Contains(t, errOut, "x.xml")
	out, _ := r.must(0, "run", "ls", "--output", "json")
	require.NotContains(t, out, "number", "nothing was started, for its results could not have been written")

	out, errOut = r.must(5, start("--wait", "--real-time", "--timeout", "1s")...)
	said := out + errOut
	require.Contains(t, said, "Run 1: Tideline 3.1.4")
	require.Contains(t, said, r.serviceURL()+"/runs/1", "number and address first")
	require.Contains(t, said, "goes on")

	_, errOut = r.must(5, start("--wait", "--timeout", "500ms")...)
	require.Contains(t, errOut, "kaede-7-1 waits for kaede-7-1, which is in use", "it says what for")
	r.must(0, "run", "cancel", "2", "--yes")

	// Ctrl-C: whoever breaks off has the run cancelled, and is told.
	var shown, told syncBuffer
	ctx, breakOff := context.WithCancel(context.Background())
	ended := make(chan int, 1)
	args := append(start("--wait", "--real-time"), "--service", r.serviceURL(), "--token-file",
		filepath.Join(r.dir, "service", "user-token"))
	go func() { ended <- cli.Run(ctx, args, strings.NewReader(""), &shown, &told) }()
	require.Eventually(t, func() bool {
		return strings.Contains(shown.String()+told.String(), "Run 3")
	}, patience, 10*time.Millisecond)
	breakOff()
	require.Equal(t, 5, <-ended)
	require.Contains(t, told.String(), "run 3 is cancelled, as you broke off")
	require.Eventually(t, func() bool { return r.run(3).Run.State == "cancelled" }, patience, 50*time.Millisecond)
	r.must(0, "run", "cancel", "1", "--yes")
}

func TestSuitesAreShownAndTakenOffTheList(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	apk, suite := bell(t, dir, "suites")
	r.must(0, "try", suite, "--build", apk, "--on", "kaede-7-1")
	r.must(0, "device", "look", "kaede-7-1", "--build", apk)
	out, _ := r.must(0, "suite", "ls")
	require.NotContains(t, out, "The bell", "what was only tried is not listed")
	require.NotContains(t, strings.ToLower(out), "look", "nor what a look uses")
	_, errOut := r.must(2, "build", "settings", "1")
	require.Contains(t, errOut, "there are no suites yet", "nor is offered")

	r.must(0, "suite", "push", suite)
	out, _ = r.must(0, "suite", "show", "The bell")
	require.Contains(t, out, `tap button called /Ring|Läuten/`)
	require.Contains(t, out, "it counts")
	r.must(0, "suite", "remove", "The bell")
	out, _ = r.must(0, "suite", "ls")
	require.NotContains(t, out, "The bell")
	require.Equal(t, "pass", r.run(1).Run.Verdict, "its runs stay")
	_, errOut = r.must(2, "suite", "remove", "The bell")
	require.Contains(t, errOut, "yamato suite ls")
	r.must(0, "suite", "push", suite)
	out, _ = r.must(0, "suite", "ls")
	require.Contains(t, out, "The bell")
}

func TestNothingIsAcceptedThatMeansNothing(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	apk, suite := bell(t, dir, "nonsense")
	r.must(0, "build", "push", apk)
	r.must(0, "suite", "push", suite)
	start := []string{"run", "start", "--build", "1", "--suite", "The bell"}
	for _, c := range []struct {
		args []string
		says string
	}{
		{append(start, "--repeat-failed", "-1"), "repeat"},
		{append(start, "--wait", "--timeout", "-5s"), "timeout"},
		{append(start, "--language", "xx-nonsense"), "BCP 47"},
		{[]string{"run", "ls", "--limit", "-1"}, "limit"},
		{[]string{"run", "ls", "--state", "done"}, "finished"},
		{[]string{"run", "ls", "--verdict", "green"}, "pass"},
		{[]string{"device", "ls", "--state", "free"}, "idle"},
		{[]string{"device", "ls", "--kind", "phone"}, "emulator"},
		{[]string{"build", "hand", "1", "--for", "-3h"}, "for"},
		{[]string{"build", "retention", "--keep", "-2"}, "keep"},
		{[]string{"device", "sideline", "kaede-7-1", "--reason", "x", "--for", "-1h"}, "for"},
		{[]string{"standin", "trouble", "kaede-7-1", "black", "--always", "--never"}, "never"},
		{[]string{"standin", "trouble", "kaede-7-1", "cable"}, "cable"},
		{[]string{"standin", "do", "kaede-7-1", "plug-in"}, "plug-in"},
		{[]string{"device", "make", "Kaede 7", "--count", "0"}, "count"},
	} {
		_, errOut := r.must(2, c.args...)
		require.Contains(t, errOut, c.says, "%v", c.args)
	}
	out, _ := r.must(0, "run", "ls", "--output", "json")
	require.NotContains(t, out, "number", "none of them began a run")
}

func TestWhatIsWrittenFitsEightyColumns(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	t.Setenv("COLUMNS", "80")
	r.must(0, "build", "push", filepath.Join(dir, "tideline-3.2.0.apk"),
		filepath.Join(dir, "tideline-3.2.0-simulator.zip"))
	r.must(0, "suite", "push", filepath.Join(dir, "suites"))
	r.must(0, "device", "sideline", "kaede-7-2", "--reason",
		"its screen has a crack from corner to corner and the lower third of it no longer takes any touch at all")
	r.must(1, "run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--wait")
	address := regexp.MustCompile(`https?://|^/`)
	for _, args := range [][]string{
		{"device", "ls"}, {"device", "show", "kaede-7-2"}, {"build", "ls"}, {"build", "show", "3.2.0"},
		{"build", "fit", "3.2.0"}, {"suite", "ls"}, {"suite", "show", "Buying a ticket"},
		{"site", "ls"}, {"standin", "ls"}, {"run", "ls"}, {"run", "show", "1"}, {"run", "start", "--build", "3.2.0",
			"--suite", "Buying a ticket", "--preview"},
	} {
		out, _, _ := r.yamato(args...)
		require.NotEmpty(t, out)
		for _, line := range strings.Split(out, "\n") {
			require.Equal(t, strings.TrimRight(line, " "), line, "%v: no blanks at the end", args)
			if !address.MatchString(line) {
				require.LessOrEqual(t, utf8.RuneCountInString(line), 80, "%v: %s", args, line)
			}
		}
	}
	out, _ := r.must(0, "device", "ls")
	require.Contains(t, strings.Join(strings.Fields(out), " "), "any touch", "nothing is cut")
}

// syncBuffer is a buffer that one goroutine writes and another reads.
type syncBuffer struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (b *syncBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.Write(p)
}

func (b *syncBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.String()
}
