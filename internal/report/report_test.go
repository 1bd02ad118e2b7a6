package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
)

func crossing(name, verdict string, flaky bool, results ...contract.Result) contract.Crossing {
	return contract.Crossing{Name: name, Verdict: verdict, Flaky: flaky, Results: results}
}

func failed(sentence string) contract.Result {
	return contract.Result{Attempt: 1, Device: "kaede-7-1", Verdict: "fail", TookMs: 1500, Sentence: &sentence,
		Failure: &map[string]any{"line": 3.0, "step": "expect #total", "expected": "#total to be shown",
			"actual": "it is not there", "waited_ms": 8000.0, "quiet_ms": 7600.0, "report": "Error: boom\n  at x"}}
}

func passed(attempt int) contract.Result {
	return contract.Result{Attempt: attempt, Device: "kaede-7-1", Verdict: "pass", TookMs: 500}
}

func sample() contract.RunDetail {
	done := time.Now()
	leg := func(model string, cases ...contract.Crossing) contract.Leg {
		return contract.Leg{Suite: "Buying a ticket", Combination: contract.Combination{Kind: "emulator", Model: model,
			Platform: "android", Os: "14", Levels: []contract.Level{{Factor: "language",
				Value: "en-GB"}}}, State: "finished", Cases: cases}
	}
	trouble := "the cable dropped"
	broken := leg("Kaede Mini", crossing("quick", "error", false), crossing("slow", "skip", false),
		crossing("wrong", "none", false))
	broken.Attempts = []contract.Attempt{{Number: 1, Device: "kaede-mini-1", Trouble: &trouble}}
	return contract.RunDetail{
		Run: contract.Run{Number: 12, App: "Tideline", VersionName: "3.2.0", VersionCode: "61", Build: 9,
			Verdict: "fail",
			State:   "finished", Seed: 7, FinishedAt: &done, Legs: 3},
		Legs: []contract.Leg{
			leg("Kaede 7", crossing("quick", "pass", false, passed(1)), crossing("slow", "pass", true,
				failed("line 3: late"),
				passed(2)), crossing("wrong", "fail", false, failed("line 3: wrong"))),
			leg("Kaede 7 Lite", crossing("quick", "pass", false, passed(1)), crossing("slow", "pass", false, passed(1)),
				crossing("wrong", "fail", false, failed("line 3: wrong"))),
			broken,
		},
		LeftOut: []contract.LeftOut{{Combination: contract.Combination{Model: "Aster 12", Platform: "ios", Os: "18"},
			Reasons: []contract.Reason{{Why: "no package", Remedy: "push one"}}}},
	}
}

func TestTheWeaveBringsFailuresTogether(t *testing.T) {
	var out bytes.Buffer
	Weave(&out, sample(), Ink{})
	require.Equal(t, `Run 12  Tideline 3.2.0 (61), build 9  fail  seed 7

                       1  2  3
Buying a ticket
  wrong                ■  ■  ·
  quick                ○  ○  ▲
  slow                 ◐  ○  –

   1 Kaede 7, Android 14, emulator
   2 Kaede 7 Lite, Android 14, emulator
   3 Kaede Mini, Android 14, emulator

  ○ pass   ■ fail   ▲ error   – skip   ◐ flaky   · not decided
`, out.String())
}

func TestFailuresAreToldOnceWithAllTheirCombinations(t *testing.T) {
	var out bytes.Buffer
	Failures(&out, sample(), Ink{})
	text := out.String()
	require.Equal(t, 1, strings.Count(text, "■ wrong  fail"))
	require.Contains(t, text, "  on       Kaede 7, Android 14; Kaede 7 Lite, Android 14\n  step     line 3: expect "+
		"#total\n  expected #total to be shown\n  but      it is not there\n  waited   8.0 s; nothing had changed for "+
		"7.6 s\n  report   Error: boom\n")
	require.Contains(t, text, "◐ slow  flaky, now pass")
	require.Contains(t, text, "▲ quick  error\n  on       Kaede Mini, Android 14\n  because  the cable dropped")
}

func TestInkIsPlainUnlessItIsOn(t *testing.T) {
	require.Equal(t, "x", Ink{}.Vermilion("x"))
	painted := Ink{On: true}.Strong("x")
	start, n := Reveal([]byte(painted))
	require.Equal(t, "\x1b[1m", string(start))
	require.Equal(t, "x", painted[n:n+1])
	_, n = Reveal([]byte("\x1b[1mx"))
	require.Zero(t, n, "it came from outside")
	require.Empty(t, Ink{On: true}.Faint(""))
}

func TestJUnitHasOneCaseForEachCaseAndCombination(t *testing.T) {
	var out bytes.Buffer
	d := sample()
	d.Legs[0].Cases[2].Name = "wrong \x00\x1b & <odd>"
	require.NoError(t, JUnit(&out, d))
	var got junitSuites
	require.NoError(t, xml.Unmarshal(out.Bytes(), &got), out.String())
	require.Equal(t, []int{12, 2, 1, 5}, []int{got.Tests, got.Failures, got.Errors, got.Skipped})
	require.Len(t, got.Suites, 4, "what was left out is there, skipped")
	require.Contains(t, got.Suites[3].Cases[0].Skipped.Message, "left out: no package")
	require.Equal(t, "Buying a ticket on Kaede 7, Android 14", got.Suites[0].Name)
	require.Equal(t, "wrong  & <odd>", got.Suites[0].Cases[2].Name, "what XML cannot hold is dropped, the rest is kept")
	require.Equal(t, "line 3: wrong", got.Suites[0].Cases[2].Failure.Message)
	require.Contains(t, got.Suites[0].Cases[1].SystemOut, "flaky")
	require.Equal(t, "2.000", got.Suites[0].Cases[1].Time, "the time of both attempts")
	require.Equal(t, "the cable dropped", got.Suites[2].Cases[0].Error.Message)
	require.Equal(t, junitProperty{"model", "Kaede 7"}, got.Suites[0].Properties[0])
}

func TestJUnitTellsWhereWhenAndWhy(t *testing.T) {
	d := sample()
	leg := &d.Legs[0]
	for i := range leg.Cases {
		leg.Cases[i].Index = i
	}
	leg.Attempts = []contract.Attempt{{Number: 1, Device: "kaede-7-1", Began: time.Date(2026, 6,
		1, 9, 40, 0, 0, time.FixedZone("", 7200))},
		{Number: 2, Device: "kaede-7-2", Began: time.Date(2026, 6, 1, 10, 0, 0, 0, time.UTC)}}
	leg.Cases[2].Results[len(leg.Cases[2].Results)-1].Failure = &map[string]any{"cause": "contradicted", "line": 20,
		"file": "steps/pay.yamato"}
	var out bytes.Buffer
	require.NoError(t, JUnitBeside(&out, d, func(of int64, index int) []string {
		if of == leg.Id && index == leg.Cases[2].Index {
			return []string{"Kaede-7-Android-14/Buying-a-ticket/wrong/1-screen.png"}
		}
		return nil
	}))
	var got junitSuites
	require.NoError(t, xml.Unmarshal(out.Bytes(), &got), out.String())
	require.Equal(t, "2026-06-01T07:40:00", got.Suites[0].Timestamp)
	require.Equal(t, "kaede-7-2", got.Suites[0].Hostname)
	one := got.Suites[0].Cases[2]
	require.Equal(t, "contradicted", one.Failure.Type)
	require.Equal(t, []any{"steps/pay.yamato", 20}, []any{one.File, one.Line})
	require.Equal(t, []junitProperty{{"attachment", "Kaede-7-Android-14/Buying-a-ticket/wrong/1-screen.png"}},
		one.Properties.List)
	require.Nil(t, got.Suites[0].Cases[0].Properties)
}

func TestARunThatGoesOnSaysHowMuchIsLeft(t *testing.T) {
	d := sample()
	d.Run.FinishedAt, d.Run.State, d.Run.OpenLegs, d.Run.Verdict = nil, "running", 2, "none"
	var out bytes.Buffer
	Weave(&out, d, Ink{})
	require.Contains(t, out.String(), "running, 2 of 3 legs to go")
	d.Run.FinishedAt, d.Run.State, d.Run.Verdict = ptr(time.Now()), "cancelled", "pass"
	out.Reset()
	Weave(&out, d, Ink{})
	require.Contains(t, out.String(), "cancelled; so far pass")
}

func ptr[T any](v T) *T { return &v }

func TestALabelNamesTheLanguageOnlyWhereItIsNotTheUsualOne(t *testing.T) {
	c := contract.Combination{Model: "Aster 12", Platform: "ios", Os: "18",
		Levels: []contract.Level{{Factor: "language", Value: "en-GB"}}}
	require.Equal(t, "Aster 12, iOS 18", Label(c))
	c.Levels[0].Value = "de-DE"
	require.Equal(t, "Aster 12, iOS 18, de-DE", Label(c))
}

func TestAPassAfterAnErrorAndOneThatProvesLittleAreToldAsSuch(t *testing.T) {
	d := sample()
	yes, note, absent := true, "this proves little: nothing has ever matched #typo in this app", "#typo"
	x := &d.Legs[0].Cases[0]
	x.Verdict, x.Flaky, x.Recovered = "pass", false, &yes
	steps := []contract.Step{{Line: 7, Text: "expect no #typo", Verdict: "pass", Note: &note, Absent: &absent}}
	x.Results = []contract.Result{{Verdict: "error"}, {Verdict: "pass", Steps: &steps}}
	var out bytes.Buffer
	Weave(&out, d, Ink{})
	Failures(&out, d, Ink{})
	Doubts(&out, d, Ink{})
	require.Contains(t, out.String(), "◎ after an error")
	require.Contains(t, out.String(), "passed, after an attempt that ended in an error")
	require.Contains(t, out.String(), "Buying a ticket, line 7: expect no #typo: this proves little")
	out.Reset()
	require.NoError(t, JUnit(&out, d))
	require.Contains(t, out.String(), "it passed after an attempt that ended in an error")
}

func TestWhatIsLeftOutIsToldByReasonAndAfterWhatFailed(t *testing.T) {
	var out bytes.Buffer
	list := sample().LeftOut
	list = append(list, contract.LeftOut{Combination: contract.Combination{Model: "Aster Petit", Platform: "ios",
		Os: "17"}, Reasons: list[0].Reasons})
	LeftOut(&out, list, Ink{}, false)
	require.Equal(t, "\nLeft out: 2 combinations\n  Aster 12, iOS 18; Aster Petit, iOS 17\n    no package: push one\n",
		out.String())
	for i := range 30 {
		list = append(list, contract.LeftOut{Combination: list[0].Combination,
			Reasons: []contract.Reason{{Why: strings.Repeat("x", i+1)}}})
	}
	out.Reset()
	LeftOut(&out, list, Ink{}, false)
	require.Contains(t, out.String(), "23 more reasons")
}

func TestWhatIsWrittenFitsTheTerminalAndNoLineEndsInBlanks(t *testing.T) {
	d := sample()
	for i := range 40 {
		leg := d.Legs[0]
		leg.Combination.Model = fmt.Sprintf("Kaede %d Maxi with a name that is rather long", i)
		d.Legs = append(d.Legs, leg)
	}
	long := strings.Repeat("it is not there, and that is said at length ", 12)
	d.Legs[0].Cases[2].Results[0].Sentence = &long
	d.LeftOut[0].Reasons[0].Why = long
	for _, width := range []int{60, 80, 120} {
		var out bytes.Buffer
		ink := Ink{Width: width}
		Weave(&out, d, ink)
		Failures(&out, d, ink)
		LeftOut(&out, d.LeftOut, ink, false)
		for _, line := range strings.Split(out.String(), "\n") {
			require.LessOrEqual(t, visible(line), width, line)
			require.Equal(t, strings.TrimRight(line, " "), line)
		}
	}
}

func TestACombinationOnOneDeviceIsToldWithItsName(t *testing.T) {
	l := contract.Leg{Combination: contract.Combination{Model: "Kaede 7", Platform: "android", Os: "14"}}
	require.Equal(t, "Kaede 7, Android 14", Where(l))
	l.Device = ptr("kaede-7-1")
	require.Equal(t, "Kaede 7, Android 14, kaede-7-1", Where(l))
}

func TestJUnitTellsBuildsOfOneVersionApart(t *testing.T) {
	d := sample()
	d.Run.Labels = &map[string]string{"branch": "main"}
	var out bytes.Buffer
	require.NoError(t, JUnit(&out, d))
	require.Contains(t, out.String(), `<testsuites name="run 12: Tideline 3.2.0 (61), build 9"`)
	require.Contains(t, out.String(), `<property name="build" value="9"></property>`)
	require.Contains(t, out.String(), `<property name="label.branch" value="main"></property>`)
	require.Contains(t, out.String(), `<property name="language" value="en-GB"></property>`)
}
