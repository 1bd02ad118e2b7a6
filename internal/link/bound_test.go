package link

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/script"
)

func TestAnEventOfAnySizeIsMadeToFit(t *testing.T) {
	long := strings.Repeat("<", 1<<20) // six times as long once encoded
	steps := make([]script.StepRecord, 60_000)
	for i := range steps {
		steps[i] = script.StepRecord{Line: i, Text: `expect "` + strings.Repeat("<", 3900) + `"`, Verdict: "pass"}
	}
	matched := make([]string, 50_000)
	for i := range matched {
		matched[i] = fmt.Sprintf("%q", strings.Repeat("é", 200))
	}
	circumstances, err := json.Marshal(map[string]string{"device": long})
	require.NoError(t, err)
	for name, e := range map[string]Event{
		"a long line": {Case: &CaseClosed{Verdict: "fail", Failure: &script.Failure{Step: long, Actual: long,
			Report: long}}},
		"many steps":      {Case: &CaseClosed{Verdict: "pass", Steps: steps}},
		"many locators":   {Case: &CaseClosed{Verdict: "pass", Matched: matched}},
		"much evidence":   {Case: &CaseClosed{Verdict: "pass", Evidence: make([]EvidenceRef, 40_000)}},
		"circumstances":   {Began: &Began{Circumstances: circumstances}},
		"trouble":         {Finished: &Finished{Trouble: long}},
		"loose evidence":  {Evidence: make([]EvidenceRef, 40_000)},
		"what fits, fits": {Case: &CaseClosed{Verdict: "pass", Steps: steps[:3]}},
	} {
		size, err := e.Fit()
		require.NoError(t, err, name)
		require.LessOrEqual(t, size, MaxEvent, name)
		if e.Case != nil {
			require.NotEmpty(t, e.Case.Verdict, name)
			require.Contains(t, []string{"pass", "fail"}, e.Case.Verdict, name)
		}
	}
	e := Event{Case: &CaseClosed{Verdict: "pass", Steps: steps}}
	_, err = e.Fit()
	require.NoError(t, err)
	require.Contains(t, e.Case.Steps[len(e.Case.Steps)/2].Note, "are left out", "what was cut is said")
}

// Whatever a host sends, its message is read, cleaned and weighed without harm.
func FuzzMessages(f *testing.F) {
	f.Add([]byte(`{"events":[{"lease":1,"seq":1,"case":{"case":0,"verdict":"fail","failure":{"actual":"bad\u0000thing"},"steps":[{"text":"\ud800"}]}}]}`))
	f.Add([]byte(`{"events":[{"began":{"circumstances":{"a\u0000":["\u0000"]}}}],"done":{"trouble":"\u0000"}}`))
	f.Add([]byte(`{"hello":{"devices":[{"name":"\u0000","condition":{"checks":[{"why":"\u0000"}]}}]}}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		var m FromHost
		if Decode(body, &m) != nil {
			return
		}
		out, err := json.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(out), `\u0000`) && !strings.Contains(string(out), `\\u0000`) {
			t.Fatalf("%s still holds NUL", out)
		}
		for i := range m.Events {
			if m.Events[i].Weight() <= 0 {
				t.Fatal("an event weighs nothing")
			}
			if size, err := m.Events[i].Fit(); err == nil && size > MaxEvent {
				t.Fatalf("%d bytes", size)
			}
		}
	})
}
