package standin_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/testbin"
)

// childOf gives the process in which a stand-in's app runs.
func childOf(t *testing.T) int {
	t.Helper()
	tasks, err := filepath.Glob("/proc/self/task/*/children")
	require.NoError(t, err)
	for _, path := range tasks {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, word := range strings.Fields(string(text)) {
			words, err := os.ReadFile("/proc/" + word + "/cmdline")
			if err == nil && strings.Contains(string(words), sandbox.Argument) {
				pid, err := strconv.Atoi(word)
				require.NoError(t, err)
				return pid
			}
		}
	}
	require.FailNow(t, "no app runs")
	return 0
}

func TestAnAppThatIsKilledFromOutsideIsTheHostsTroubleNotTheAppsFault(t *testing.T) {
	d := phone(t, `os.show(() => ui.button({id: 'go', text: 'Go', onTap: () => {}}))`)
	ctx := context.Background()
	require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
	require.NoError(t, syscall.Kill(childOf(t), syscall.SIGKILL)) // as a machine does that has no memory left
	err := d.Tap(ctx, screen.Point{X: 100, Y: 40})
	require.ErrorContains(t, err, "ended from outside")
	var crash *device.Crash
	var own *device.Trouble
	require.False(t, errors.As(err, &crash), "it says nothing of the app")
	require.False(t, errors.As(err, &own), "nor of the device")
	require.NoError(t, d.Start(ctx, "example.other", device.Fresh), "and the next start is as any")
}

func TestAnAppThatShowsNothingIsInFront(t *testing.T) {
	d := phone(t, `os.after(1000, () => {})`)
	require.NoError(t, d.Start(context.Background(), "example.other", device.Fresh))
	tree, err := d.Tree(context.Background())
	require.NoError(t, err)
	require.Equal(t, "example.other", tree.App, "that it shows nothing is its own fault")
}

func TestComputingIsBoundedInATurnAndInACase(t *testing.T) {
	testbin.Unhurried(t)
	const burn = `function burn(ms) { let x = 0; for (let i = 0; i < ms * 2500; i++) x += i % 7; return x; }`
	for name, c := range map[string]struct {
		program, step string
		want          verdict.Verdict
		says          string
	}{
		"a handler that computes for long": {burn +
			`let n = 0; os.show(() => ui.button({id: 'go', text: 'Go ' + n, onTap: () => { burn(1500); n++; }}))`,
			"tap #go\nexpect \"Go 1\"", verdict.Pass, ""},
		"one that never ends": {`os.show(() => ui.button({id: 'go', text: 'Go', onTap: () => { for (;;); }}))`,
			"tap #go",
			verdict.Fail, "stopped answering"},
		"turns that compute again and again": {burn +
			`os.every(4, () => burn(300)); os.show(() => ui.text({text: 'Here'}))`, `expect "There" within 4m`,
			verdict.Fail,
			"computed for more than 6s in one case"},
	} {
		t.Run(name, func(t *testing.T) {
			d := phoneThatComputes(t, c.program, 6*time.Second)
			s, findings := script.Read("suite \"s\"\ncase \"c\"\n" + c.step + "\nend\n")
			require.Zero(t, script.Faults(findings), "%+v", findings)
			d.SetChance(1)
			r := script.RunCase(context.Background(), s, s.Cases[0], d, script.Options{App: "example.other",
				Known: func(string) bool {
					return true
				}}, &pictures{t: t})
			require.Equal(t, c.want, r.Verdict, "%+v", r.Failure)
			if c.says != "" {
				require.Contains(t, r.Failure.Actual, c.says)
			}
		})
	}
}

func TestGiantTextsAreLaidOutInNoTime(t *testing.T) {
	testbin.Unhurried(t)
	for name, text := range map[string]string{
		"one word": strings.Repeat("x", 20_000), "words": strings.Repeat("ab ", 6600), "lines": strings.Repeat("a\\n",
			9000), "wide": strings.Repeat("漢字 ", 5000),
	} {
		for _, props := range []string{"", "w: 8,", "lines: 1,", "size: 200,", "w: 19000,"} {
			if standin.RaceEnabled && props != "w: 8," {
				continue
			}
			d := phone(t, fmt.Sprintf(`os.show(() => ui.column({}, Array.from({length: 12}, () => ui.text({%s text: "%s"}))))`,
				props, text))
			ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
			from := time.Now()
			require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
			_, err := d.Tree(ctx)
			require.NoError(t, err)
			require.Less(t, time.Since(from), 18*time.Second, "%s, %s", name, props)
			stop()
			require.NoError(t, d.Close())
		}
	}
	d := phone(t, `const s = 'y'.repeat(19000); os.show(() => ui.column({}, Array.from({length: 200}, () => ui.text({text: s}))))`)
	require.ErrorContains(t, d.Start(context.Background(), "example.other", device.Fresh),
		"more than 400000 characters at once")
}

func TestALogIsBoundedInBytes(t *testing.T) {
	d := phone(t, `const y = 'y'.repeat(1900); os.every(4, () => { for (let i = 0; i < 400; i++) os.log('info', 'x', y); }); os.show(() => ui.text({text: 'Here'}))`)
	ctx := context.Background()
	require.NoError(t, d.Start(ctx, "example.other", device.Fresh))
	for now := time.Duration(0); now < 400*time.Millisecond; now += 20 * time.Millisecond {
		require.NoError(t, d.AwaitChange(ctx, 1<<60, d.Now()+20*time.Millisecond))
	}
	lines, err := d.Log(ctx)
	require.NoError(t, err)
	size := 0
	for _, l := range lines {
		size += len(l.Text)
	}
	require.Less(t, size, 9<<20)
	require.Contains(t, lines[len(lines)-1].Text, "more lines were dropped")
}
