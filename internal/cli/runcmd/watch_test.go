package runcmd

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
)

func leg(model, waitsFor string, ended ...time.Time) contract.Leg {
	l := contract.Leg{State: "waiting", Combination: contract.Combination{Kind: "emulator", Model: model,
		Platform: "android", Os: "14", Language: "en-GB"}}
	if waitsFor != "" {
		l.WaitsFor = &waitsFor
	}
	for _, e := range ended {
		l.Attempts = append(l.Attempts, contract.Attempt{Ended: &e})
	}
	return l
}

func TestWhatLegsWaitForIsToldOnceForEachAndSinceWhen(t *testing.T) {
	began := time.Now().Add(-10 * time.Minute)
	d := contract.RunDetail{Run: contract.Run{CreatedAt: began}, Legs: []contract.Leg{
		leg("Kaede 7", "a Kaede 7: 2 in use"), leg("Kaede 7", "a Kaede 7: 2 in use"), leg("Kaede Mini", ""),
		leg("Fold", "fold-1, which is off", began.Add(4*time.Minute), began.Add(7*time.Minute)),
	}}
	got := waits(d)
	require.Len(t, got, 2)
	require.Equal(t, "Kaede 7, Android 14 waits for a Kaede 7: 2 in use (2 legs), since 10 min", got[0].text())
	require.Equal(t, "Fold, Android 14 waits for fold-1, which is off, since 3 min", got[1].text(),
		"since its last attempt")
}

func TestSpansAreWrittenShort(t *testing.T) {
	for d, want := range map[time.Duration]string{-time.Second: "0 s", 59 * time.Second: "59 s", time.Minute: "1 min",
		59*time.Minute + 59*time.Second: "59 min", 25*time.Hour + 5*time.Minute: "25 h 5 min"} {
		require.Equal(t, want, span(d))
	}
}

func TestAFileForResultsIsTriedBeforeAnythingRuns(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, writable(""))
	fresh := filepath.Join(dir, "results.xml")
	require.NoError(t, writable(fresh))
	require.NoFileExists(t, fresh, "a try leaves nothing behind")
	require.NoError(t, os.WriteFile(fresh, []byte("what was there"), 0o600))
	require.NoError(t, writable(fresh))
	text, err := os.ReadFile(fresh)
	require.NoError(t, err)
	require.Equal(t, "what was there", string(text), "and takes nothing away")
	for path, says := range map[string]string{dir: "is a folder", filepath.Join(dir, "nowhere",
		"x.xml"): "nothing was started"} {
		err := writable(path)
		var call ui.WrongCall
		require.ErrorAs(t, err, &call, path)
		require.Contains(t, call.Title+call.Hint, says)
	}
}

func TestHowFarARunIsIsToldInPlainLinesWithoutATerminal(t *testing.T) {
	var out, errOut bytes.Buffer
	a := Of(&ui.App{Out: &out, Err: &errOut})
	told := newTelling(a, nil, contract.RunDetail{Run: contract.Run{Number: 7, Expected: 3}}, Watch{})
	told.told = time.Now().Add(-time.Hour) // nothing was told for long
	verdict := func(v string) client.Event {
		return client.Event{RunEvent: contract.RunEvent{Kind: "result", Verdict: &v}}
	}
	require.NoError(t, told.event(verdict("pass")))
	require.Equal(t, "Run 7: 1 of 3 judged, 0 of them not as expected\n", errOut.String())
	require.NoError(t, told.event(verdict("fail")))
	require.NoError(t, told.event(client.Event{RunEvent: contract.RunEvent{Kind: "again"}}))
	require.NoError(t, told.event(verdict("error")))
	require.Equal(t, "Run 7: 1 of 3 judged, 0 of them not as expected\n", errOut.String(), "not a line for each")
	told.plainly()
	require.Contains(t, errOut.String(), "Run 7: 3 of 4 judged, 2 of them not as expected\n")
	require.Empty(t, out.String(), "results alone are on standard output")

	out.Reset()
	a.Output = "json"
	program := newTelling(a, nil, contract.RunDetail{Run: contract.Run{Number: 7}}, Watch{events: true})
	require.NoError(t, program.event(client.Event{Number: 4, RunEvent: contract.RunEvent{Kind: "again"}}))
	require.JSONEq(t, `{"number":4,"event":{"kind":"again"}}`, out.String(), "one event a line")
}
